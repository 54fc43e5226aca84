// What the fields of an editor know of the record around them.
import { getContext, setContext } from 'svelte';

/** Something wrong, at a path such as tasks[0].deliver.to, with the number of its flag. */
export type Fault = { n: number; where: string; sentence: string };

export type Around = {
  faults: () => Fault[];
  /** What may be written in a field, and whether nothing else may. */
  offers: (schema: string, field: string, path: string) => { words: string[]; closed?: boolean } | undefined;
  /** The moving parts that may be put into a text, or what a condition may speak of. */
  parts?: (path: string) => string[];
};

const key = Symbol('around');

export const around = () => getContext<Around>(key);
export const setAround = (a: Around) => setContext(key, a);

/** The faults of one field: of itself and of what lies in it, where that has no field of its own. */
export function faultsAt(all: Fault[], path: string, whole: boolean): Fault[] {
  return all.filter(
    (f) => f.where === path || (whole && (f.where.startsWith(`${path}[`) || f.where.startsWith(`${path}.`))),
  );
}

/** Brings the field of a fault into view and the keyboard into it. */
export function goTo(where: string) {
  const steps = where.split(/(?=[.[])/);
  for (let n = steps.length; n > 0; n--) {
    const path = steps.slice(0, n).join('');
    const at = document.querySelector<HTMLElement>(`[data-path="${CSS.escape(path)}"]`);
    if (!at) continue;
    for (let up: Element | null = at; up; up = up.parentElement)
      if (up instanceof HTMLDetailsElement) up.open = true;
    at.scrollIntoView({ block: 'center' });
    at.querySelector<HTMLElement>('input,select,textarea,button,summary')?.focus();
    return;
  }
}

/** What a query is put to, and what it may ask. */
export type AroundQuery = {
  source: () => { name: string; identity: string; protocol: string };
  parameters: () => { name: string; type?: string }[];
  run: () => void;
};

const queryKey = Symbol('around a query');

export const aroundQuery = () =>
  getContext<AroundQuery | undefined>(queryKey) ?? {
    source: () => ({ name: '', identity: '', protocol: '' }),
    parameters: () => [],
    run: () => undefined,
  };
export const setAroundQuery = (a: AroundQuery) => setContext(queryKey, a);
