// A form that opens where it was asked for.
import { onDestroy } from 'svelte';

/** What had the keyboard last, with its words and what it stood in: a button may go when its form comes. */
let last: { from: HTMLElement; words?: string; beside: Element | null } | undefined;
const stand = (from: HTMLElement) => ({
  from,
  words: from.textContent.trim(),
  beside: from.closest('section, article, li, tr, main'),
});
document.addEventListener('focusin', (e) => {
  if (e.target instanceof HTMLElement) last = stand(e.target);
});

/**
 * To be attached to a form: the keyboard goes into its first field, Escape closes it, and when it
 * is gone the keyboard is back where it was, or on the button of the same words.
 */
export const opened = (close: () => void) => (form: HTMLElement) => {
  const on = document.activeElement;
  const { from, words, beside } =
    on instanceof HTMLElement && on !== document.body ? stand(on) : (last ?? stand(document.body));
  form
    .querySelector<HTMLElement>(
      'input:not([type=hidden]):not(:disabled), select:not(:disabled), textarea:not(:disabled), button:not(:disabled)',
    )
    ?.focus();
  const key = (e: KeyboardEvent) => {
    if (e.key !== 'Escape' || e.defaultPrevented || document.querySelector('dialog[open]')) return;
    e.preventDefault();
    close();
  };
  form.addEventListener('keydown', key);
  return () => {
    form.removeEventListener('keydown', key);
    requestAnimationFrame(() => {
      const on = document.activeElement;
      if (on && on !== document.body) return; // somebody is elsewhere already
      const again = (within: Element | null | undefined) =>
        [...(within?.querySelectorAll<HTMLElement>('button, a') ?? [])].find(
          (b) => words && b.textContent.trim() === words,
        );
      const to = from.isConnected && from !== document.body ? from : (again(beside) ?? again(document.body));
      (to ?? document.querySelector<HTMLElement>('main'))?.focus();
    });
  };
};

/**
 * What a form does when its answer has come, as long as the form is there: somebody may have closed
 * it meanwhile and opened another, which must not be closed in its place.
 */
export function whileHere<A extends unknown[]>(done: (...args: A) => void): (...args: A) => void {
  let here = true;
  onDestroy(() => (here = false));
  return (...args) => {
    if (here) done(...args);
  };
}
