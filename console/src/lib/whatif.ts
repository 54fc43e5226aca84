// What a change would do, as it is shown: its numbers in words, and the rings of a day on two tapes.
import type { Coming, RingChange, RingCounts, WhatIf } from './api';
import { dateIn } from './month';
import type { Shown } from './tape';

const words: [keyof RingCounts, string, string][] = [
  ['gone', 'goes', 'go'],
  ['new', 'is new', 'are new'],
  ['moved', 'moves', 'move'],
  ['later', 'begins later', 'begin later'],
  ['sooner', 'begins sooner', 'begin sooner'],
  ['joined', 'joins another', 'join others'],
  ['apart', 'has a run of its own', 'have runs of their own'],
  ['late', 'is late', 'are late'],
  ['on_time', 'is on time again', 'are on time again'],
];

/** Of how many rings what becomes: "3 go, 1 is late". */
export function counted(c: RingCounts): string {
  return words
    .filter(([key]) => c[key] > 0)
    .map(([key, one, many]) => `${c[key].toLocaleString('en-GB')} ${c[key] === 1 ? one : many}`)
    .join(', ');
}

/** How many rings change; those that become late or timely are among them, or are told by themselves. */
export function changedRings(c: RingCounts): number {
  return Math.max(c.gone + c.new + c.moved + c.later + c.sooner + c.joined + c.apart, c.late + c.on_time);
}

/** The dates on which rings change, in order, with how many do. */
export function daysOf(w: WhatIf): [date: string, changes: RingChange[]][] {
  const days: Record<string, RingChange[]> = {};
  for (const r of w.rings) {
    const dates = [r.was, r.will].flatMap((c) => (c && !c.passed ? [dateIn(c.at, w.zone)] : []));
    for (const date of new Set(dates)) (days[date] ??= []).push(r);
  }
  return Object.entries(days).sort(([a], [b]) => a.localeCompare(b));
}

const same = (a: Coming, b: Coming) => a.job === b.job && a.at === b.at && a.reading === b.reading;

/** The rings of a day as they are and as they would be, with those that change marked. */
export function twoTapes(rings: Coming[], changes: RingChange[]): { was: Shown[]; will: Shown[] } {
  const stands = (c: Coming | undefined): c is Coming => c !== undefined && !c.passed;
  const leaves = (c: Coming) => changes.find((r) => stands(r.was) && same(r.was, c));
  return {
    was: rings.map((c) => {
      const r = leaves(c);
      return r && (r.what === 'gone' || r.what === 'moved') ? { ...c, change: 'gone' } : c;
    }),
    will: [
      ...rings.filter((c) => !leaves(c)),
      // What joins another run has no mark of its own.
      ...changes.flatMap(({ will, what, late }): Shown[] =>
        stands(will) && !will.joins
          ? [{ ...will, at: will.begins ?? will.at, change: late ? 'late' : what }]
          : [],
      ),
    ],
  };
}
