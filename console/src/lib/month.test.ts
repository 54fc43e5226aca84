import { describe, expect, it } from 'vitest';
import { addDays, dateIn, monthDays, monthsFrom, startOf } from './month';

describe('months', () => {
  it('begin their weeks on Monday', () => {
    const weeks = monthDays(2026, 11); // the first is a Sunday
    expect(weeks).toHaveLength(6);
    expect(weeks[0]).toEqual([null, null, null, null, null, null, '2026-11-01']);
    expect(weeks[5]?.[0]).toBe('2026-11-30');
  });

  it('go over the end of the year', () => {
    expect(monthsFrom('2026-11-23', 3)).toEqual([
      [2026, 11],
      [2026, 12],
      [2027, 1],
    ]);
    expect(addDays('2026-12-31', 1)).toBe('2027-01-01');
  });

  it('know where a date begins, also when clocks change', () => {
    expect(startOf('2026-11-23', 'Europe/London').toISOString()).toBe('2026-11-23T00:00:00.000Z');
    expect(startOf('2027-03-28', 'Europe/London').toISOString()).toBe('2027-03-28T00:00:00.000Z');
    expect(startOf('2027-03-29', 'Europe/London').toISOString()).toBe('2027-03-28T23:00:00.000Z');
    expect(startOf('2026-11-23', 'Asia/Kolkata').toISOString()).toBe('2026-11-22T18:30:00.000Z');
    expect(dateIn('2026-11-22T18:30:00Z', 'Asia/Kolkata')).toBe('2026-11-23');
  });
});
