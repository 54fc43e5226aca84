// What two people made of one record: three ways, field by field.
import { isEmpty, type Written } from './hint';

/** A field that both changed, each in another way. */
export type Clash = { path: string; was: unknown; mine: unknown; theirs: unknown };

/** What came of it: the record with both their changes, mine where both changed the same. */
export type Merged = { value: Written; clashes: Clash[]; theirs: string[] };

const same = (a: unknown, b: unknown) =>
  (isEmpty(a) && isEmpty(b)) || JSON.stringify(a ?? null) === JSON.stringify(b ?? null);
const isRecord = (v: unknown): v is Written => typeof v === 'object' && v !== null && !Array.isArray(v);

/** The names of a list whose members are told apart by a name; undefined for other lists. */
function names(list: unknown): string[] | undefined {
  if (!Array.isArray(list) || list.length === 0)
    return list === undefined || Array.isArray(list) ? [] : undefined;
  const all = list.map((v: unknown) => (isRecord(v) && typeof v.name === 'string' ? v.name : undefined));
  if (all.some((n) => n === undefined) || new Set(all).size < all.length) return undefined;
  return all as string[];
}

export function merge(was: Written, mine: Written, theirs: Written): Merged {
  const out: Merged = { value: {}, clashes: [], theirs: [] };
  out.value = fields(was, mine, theirs, '', out);
  return out;
}

function fields(was: Written, mine: Written, theirs: Written, path: string, out: Merged): Written {
  const value: Written = {};
  for (const key of new Set([...Object.keys(mine), ...Object.keys(theirs), ...Object.keys(was)])) {
    const at = path ? `${path}.${key}` : key;
    const v = field(was[key], mine[key], theirs[key], at, out);
    if (v !== undefined) value[key] = v;
  }
  return value;
}

function field(was: unknown, mine: unknown, theirs: unknown, path: string, out: Merged): unknown {
  if (same(mine, theirs) || same(was, theirs)) return mine;
  if (same(was, mine)) {
    out.theirs.push(path);
    return theirs;
  }
  if (isRecord(mine) && isRecord(theirs)) return fields(isRecord(was) ? was : {}, mine, theirs, path, out);
  const [a, b, c] = [names(was), names(mine), names(theirs)];
  if (Array.isArray(mine) && Array.isArray(theirs) && a && b && c)
    return members(a, was, b, mine, c, theirs, path, out);
  out.clashes.push({ path, was, mine, theirs });
  return mine;
}

function members(
  a: string[],
  was: unknown,
  b: string[],
  mine: unknown[],
  c: string[],
  theirs: unknown[],
  path: string,
  out: Merged,
): unknown[] {
  const of = (list: unknown, all: string[], name: string) =>
    Array.isArray(list) && all.includes(name) ? (list as unknown[])[all.indexOf(name)] : undefined;
  // My order, and behind it what they added.
  const order = [...b, ...c.filter((n) => !b.includes(n))];
  return order
    .map((n) => field(of(was, a, n), of(mine, b, n), of(theirs, c, n), `${path}[${n}]`, out))
    .filter((v) => v !== undefined);
}

/** Puts a value at a path of merge's. */
export function put(value: Written, path: string, what: unknown): Written {
  const copy = structuredClone(value);
  const steps = [...path.matchAll(/([^.[\]]+)|\[([^\]]+)\]/g)];
  let at: unknown = copy;
  for (const [i, step] of steps.entries()) {
    const last = i === steps.length - 1;
    if (Array.isArray(at)) {
      const n = at.findIndex((v: unknown) => isRecord(v) && v.name === step[2]);
      if (last && what === undefined) at.splice(n, 1);
      else if (last) at[n] = what;
      else at = at[n];
    } else if (isRecord(at)) {
      if (last) at[step[1] ?? ''] = what;
      else at = at[step[1] ?? ''];
    }
  }
  return copy;
}

/** One field that differs between two records. */
export type Difference = { path: string; was: unknown; now: unknown };

/** Where two records differ, field by field; members of lists are told apart by their names. */
export function differences(was: unknown, now: unknown, path = ''): Difference[] {
  if (same(was, now)) return [];
  if (isRecord(was) && isRecord(now))
    return [...new Set([...Object.keys(was), ...Object.keys(now)])].flatMap((key) =>
      differences(was[key], now[key], path ? `${path}.${key}` : key),
    );
  const [a, b] = [names(was), names(now)];
  if (Array.isArray(was) && Array.isArray(now) && a && b) {
    const order = [...b, ...a.filter((n) => !b.includes(n))];
    const found = order.flatMap((n) =>
      differences(was[a.indexOf(n)] as unknown, now[b.indexOf(n)] as unknown, `${path}[${n}]`),
    );
    return found.length ? found : [{ path, was: a.join(', '), now: b.join(', ') }]; // only their order
  }
  return [{ path, was, now }];
}
