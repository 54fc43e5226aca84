// Buttons beside a field, to which the arrow keys go from it and back.

/** Moves among the buttons of a group by the arrows; Escape, or going back from the first, returns. */
export function among(
  e: KeyboardEvent,
  group: HTMLElement | undefined,
  back: HTMLElement | null | undefined,
) {
  const all = [...(group?.querySelectorAll('button') ?? [])];
  const i = all.indexOf(document.activeElement as HTMLButtonElement);
  const to = { ArrowRight: i + 1, ArrowDown: i + 1, ArrowLeft: i - 1, ArrowUp: i - 1 }[e.key];
  if ((e.key === 'Escape' && i >= 0) || (to !== undefined && to < 0)) back?.focus();
  else if (to !== undefined) all[to]?.focus();
  else return;
  e.preventDefault();
  e.stopPropagation();
}

/** Tells whether arrow down in a field has no line to go to. */
export function onLastLine(field: HTMLInputElement | HTMLTextAreaElement): boolean {
  return !field.value.slice(field.selectionEnd ?? 0).includes('\n');
}
