// Every state has its colour, its glyph and its word.

export type Tone = 'done' | 'fail' | 'wait' | 'run' | 'slate';

const tones: Record<string, Tone> = {
  done: 'done',
  sent: 'done',
  closed: 'done',
  failed: 'fail',
  bounced: 'fail',
  open: 'fail',
  partly: 'wait',
  waiting: 'wait',
  unknown: 'wait',
  acknowledged: 'wait',
  running: 'run',
  delivering: 'run',
  sending: 'run',
  offered: 'run',
  taken: 'run',
  declined: 'slate',
  blank: 'slate',
  cancelled: 'slate',
  'passed over': 'slate',
  lost: 'slate',
  // What a change does to a ring to come.
  gone: 'slate',
  new: 'run',
  moved: 'run',
  sooner: 'run',
  later: 'wait',
  joined: 'wait',
  apart: 'run',
  late: 'fail',
  'on time': 'done',
};

export function toneOf(state: string): Tone {
  return tones[state] ?? 'slate';
}

export const colour: Record<Tone, string> = {
  done: 'var(--color-success)',
  fail: 'var(--color-error)',
  wait: 'var(--color-warning)',
  run: 'var(--color-info)',
  slate: 'var(--color-neutral)',
};
