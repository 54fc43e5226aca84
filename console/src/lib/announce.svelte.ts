// What came of something that somebody did, said once: shown for some seconds, and read aloud.
const shownFor = 8_000; // ms
const held = $state({ text: '' });
let timer: ReturnType<typeof setTimeout> | undefined;

export const announced = (): string => held.text;

export function announce(text: string) {
  held.text = text;
  clearTimeout(timer);
  timer = setTimeout(() => (held.text = ''), shownFor);
}

/**
 * What a mutation says when it succeeded: a sentence, or one made of what was answered and what
 * was asked for. It stands as says in its meta.
 */
export type Says = string | ((answer: unknown, asked: unknown) => string);

export function saysOf(meta: Record<string, unknown> | undefined, answer: unknown, asked: unknown) {
  const says = meta?.says as Says | undefined;
  const text = typeof says === 'function' ? says(answer, asked) : says;
  if (text) announce(text);
}
