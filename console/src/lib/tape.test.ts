import { describe, expect, it } from 'vitest';
import type { Coming, Day, Mark } from './api';
import { layTape, maxLanes } from './tape';

const from = '2026-11-23T00:00:00Z';
const at = (minutes: number) => new Date(Date.parse(from) + minutes * 60_000).toISOString();

function run(id: number, start: number, minutes: number, state: Mark['state'] = 'done'): Mark {
  return {
    id: `2611-${id}`,
    job_id: id,
    job: `Job ${id}`,
    state,
    reason: '',
    due: at(start),
    started_at: at(start),
    ended_at: at(start + minutes),
  };
}

function day(runs: Mark[], upcoming: Coming[] = []): Day {
  return {
    date: '2026-11-23',
    zone: 'UTC',
    from,
    to: at(24 * 60),
    now: at(720),
    counts: {},
    runs,
    upcoming,
    next: [],
    attention: [],
    running: [],
  };
}

describe('the tape', () => {
  it('begins a mark at its minute and makes it as long as it took', () => {
    const [m] = layTape(day([run(1, 360, 120)]), 1440);
    expect(m?.x).toBe(360);
    expect(m?.width).toBe(120);
    expect(m?.seconds).toBe(7200);
  });

  it('stacks runs that overlap and reuses a lane that is free', () => {
    const lanes = layTape(day([run(1, 0, 60), run(2, 30, 60), run(3, 100, 10)]), 1440).map((m) => m.lane);
    expect(lanes).toEqual([0, 1, 0]);
  });

  it('never uses more lanes than there are', () => {
    const many = Array.from({ length: 30 }, (_, i) => run(i, i, 300));
    expect(Math.max(...layTape(day(many), 1440).map((m) => m.lane))).toBe(maxLanes - 1);
  });

  it('draws a run that works up to now', () => {
    const working = { ...run(1, 700, 0, 'running'), ended_at: undefined };
    const [m] = layTape(day([working]), 1440);
    expect(m?.width).toBe(20);
  });

  it('draws rings of one job that come close together as one band', () => {
    const coming = Array.from({ length: 100 }, (_, i) => ({
      job_id: 1,
      job: 'Quay board',
      at: at(720 + i * 2),
      reading: '',
    }));
    const marks = layTape(day([], [...coming, { job_id: 2, job: 'Board', at: at(800), reading: '' }]), 1440);
    expect(marks.map((m) => [m.job, m.count])).toEqual([
      ['Quay board', 100],
      ['Board', 1],
    ]);
    expect(marks[0]?.width).toBeCloseTo(198 + 5);
  });
});
