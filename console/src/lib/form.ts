// What was written into a form.

/** A field's text without blanks around it; undefined when nothing was written. */
export function text(form: FormData, name: string): string | undefined {
  return String(form.get(name) ?? '').trim() || undefined;
}

/** A field's number; undefined when nothing, or zero, was written. */
export function number(form: FormData, name: string): number | undefined {
  return Number(text(form, name) ?? 0) || undefined;
}

/** The word when it is one of those that there are; undefined otherwise. */
export function oneOf<const T extends string>(word: string | undefined, words: readonly T[]): T | undefined {
  return words.find((w) => w === word);
}
