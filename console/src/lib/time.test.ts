import { describe, expect, it } from 'vitest';
import { clock, distance, length, longDay, wall, zoneWord, fromField, fullDay, toField } from './time';

const winter = '2026-11-23T08:05:09Z';
const summer = '2026-07-01T23:30:00Z';

describe('times', () => {
  it('are wall times with their zone', () => {
    expect(clock(summer, 'Europe/London')).toBe('00:30');
    expect(clock(winter, 'Europe/London', true)).toBe('08:05:09');
    expect(wall(winter, 'Europe/London', false, winter)).toBe('08:05 GMT');
    expect(wall(summer, 'Europe/London', false, winter)).toBe('Thu 2 Jul 00:30 BST');
    expect(wall('2027-07-02T00:30:00Z', 'UTC', false, winter)).toBe('Fri 2 Jul 2027 00:30 UTC');
    expect(fullDay(summer, 'Europe/London')).toBe(`Thu 2 Jul ${summer.slice(0, 4)}`);
    expect(longDay(summer, 'Europe/London')).toBe('Thursday 2 July');
    expect(zoneWord('Europe/London', summer)).toBe('London, BST');
  });

  it('say a length in words of a fitting size', () => {
    expect([0.04, 0.138, 0.9996, 9.96, 48, 70, 120, 3600, 7500, 200_000].map(length)).toEqual([
      '40 ms',
      '138 ms',
      '1.0 s',
      '10.0 s',
      '48 s',
      '1 min 10 s',
      '2 min',
      '1 h',
      '2 h 5 min',
      '2 days',
    ]);
  });

  it('go through fields on the clocks of a zone', () => {
    for (const zone of ['Europe/London', 'America/New_York', 'Asia/Kathmandu', 'Pacific/Kiritimati'])
      for (const text of ['2026-07-02T00:30', '2026-11-23T08:05', '2026-03-29T04:00', '2026-10-25T05:00'])
        expect(toField(fromField(text, zone), zone)).toBe(text);
    expect(fromField('2026-07-02T00:30', 'Europe/London').toISOString()).toBe('2026-07-01T23:30:00.000Z');
    // Clocks leave this time out.
    expect(toField(fromField('2026-03-29T01:30', 'Europe/London'), 'Europe/London')).toBe('2026-03-29T02:30');
  });

  it('say the distance from now', () => {
    const now = Date.parse(winter);
    expect(distance(now + 3 * 3600_000, now)).toBe('in 3 h');
    expect(distance(now + 47_000, now)).toBe('in 47 s');
    expect(distance(now - 12_000, now)).toBe('12 s ago');
  });
});
