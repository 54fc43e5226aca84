import { describe, expect, it } from 'vitest';
import type { Coming, RingChange, WhatIf } from './api';
import { changedRings, counted, daysOf, twoTapes } from './whatif';

const ring = (job: string, at: string, more: Partial<Coming> = {}): Coming => ({
  job_id: 1,
  job,
  at,
  reading: 'every day',
  begins: at,
  ...more,
});
const board = ring('Quay board', '2026-12-01T06:00:00Z');
const sheet = ring('Day sheet', '2026-12-01T07:00:00Z');
const moved: RingChange = { what: 'moved', was: board, will: ring('Quay board', '2026-12-02T09:00:00Z') };
const none = { gone: 0, new: 0, moved: 0, later: 0, sooner: 0, joined: 0, apart: 0, late: 0, on_time: 0 };

describe('what a change would do', () => {
  it('counts in words', () => {
    expect(counted({ ...none, gone: 1, moved: 1204, late: 2 })).toBe('1 goes, 1,204 move, 2 are late');
    expect(changedRings({ ...none, late: 2 })).toBe(2);
    expect(changedRings({ ...none, moved: 3, late: 2 })).toBe(3);
  });

  it('finds the days of both sides', () => {
    const gone: RingChange = { what: 'gone', was: sheet, will: { ...sheet, passed: true } };
    const w = { zone: 'Europe/London', rings: [moved, gone] } as unknown as WhatIf;
    expect(daysOf(w).map(([date, changes]) => [date, changes.length])).toEqual([
      ['2026-12-01', 2],
      ['2026-12-02', 1],
    ]);
  });

  it('shows a day as it is and as it would be', () => {
    const today = twoTapes([board, sheet], [moved]);
    expect(today.was.map((r) => r.change)).toEqual(['gone', undefined]);
    expect(today.will.map((r) => [r.job, r.change])).toEqual([
      ['Day sheet', undefined],
      ['Quay board', 'moved'],
    ]);
    const later: RingChange = {
      what: 'later',
      was: sheet,
      will: { ...sheet, begins: '2026-12-01T12:00:00Z', waits: 'everything is frozen' },
      late: true,
    };
    const joined: RingChange = { what: 'joined', was: board, will: { ...board, joins: true } };
    const frozen = twoTapes([board, sheet], [later, joined]);
    expect(frozen.was.map((r) => r.change)).toEqual([undefined, undefined]);
    expect(frozen.will).toEqual([{ ...later.will, at: '2026-12-01T12:00:00Z', change: 'late' }]);
  });
});
