// What is known of a field before anybody writes in it.

export type Hint = {
  form:
    | 'text'
    | 'long'
    | 'whole'
    | 'number'
    | 'flag'
    | 'choice'
    | 'choices'
    | 'list'
    | 'pairs'
    | 'values'
    | 'one'
    | 'many'
    | 'any';
  of?: string; // what an object, or each of a list, is
  choices?: string[];
  help?: string;
  needed?: boolean;
  longest?: number; // letters
};

/** A record that is being written. */
export type Written = Record<string, unknown>;

/** What stands when the field is left empty, as its help says it. */
export function byItself(help = ''): string {
  return /; ([^;]+) when left out/.exec(help)?.[1] ?? /^([^;]+) when left out$/.exec(help)?.[1] ?? '';
}

/** Tells whether a value says nothing, so that the field is left out. */
export function isEmpty(value: unknown): boolean {
  if (value === undefined || value === null || value === '' || value === false) return true;
  if (Array.isArray(value)) return value.length === 0;
  return typeof value === 'object' && Object.values(value).every(isEmpty);
}

/**
 * The record without what says nothing. Lists that mean something when they are empty, and
 * values of parameters, stay as they are.
 */
export function without(value: unknown, keep: (key: string) => boolean = meansEmpty): unknown {
  if (Array.isArray(value)) return value.map((v) => without(v, keep));
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .filter(([key, v]) => (keep(key) ? v !== undefined : !isEmpty(v)))
      .map(([key, v]) => [key, key === 'values' || key === 'default' ? v : without(v, keep)]),
  );
}

/** A task that follows none begins at once; a default, a choice or a number may be nothing, no or 0. */
function meansEmpty(key: string): boolean {
  return ['after', 'default', 'value', 'values', 'on', 'decimals'].includes(key);
}
