import { describe, expect, it } from 'vitest';
import { freshRule, ruleWords, type RuleParts } from './ruleform';

const words = (parts: Partial<RuleParts>) => ruleWords({ ...freshRule(), ...parts });

describe('the words of a rule that is put together by clicking', () => {
  it.each<[Partial<RuleParts>, string]>([
    [{}, 'on weekdays at 06:00'],
    [{ days: 'every', times: ['18:00', '', '06:00', '06:00'] }, 'every day at 06:00 and 18:00'],
    [{ days: 'open', closed: 'skip' }, 'on open days at 06:00 skip closed days'],
    [{ days: 'week', week: ['Friday', 'Monday', 'Wednesday'] }, 'on monday, wednesday and friday at 06:00'],
    [{ days: 'numbers', numbers: '1 15' }, 'on day 1 and 15 of every month at 06:00'],
    [{ days: 'place', period: 'quarter' }, 'on the last open day of every quarter at 06:00'],
    [
      { days: 'place', place: '2nd to last', what: 'Friday', period: 'year', closed: 'before' },
      'on the 2nd to last friday of every year at 06:00 before closed days',
    ],
    [{ often: 'repeat', step: 15 }, 'on weekdays every 15 minutes'],
    [
      { often: 'repeat', step: 1, unit: 'hours', from: '06:00', to: '22:00' },
      'on weekdays every hour between 06:00 and 22:00',
    ],
    [{ often: 'repeat', from: '06:00' }, 'on weekdays every 15 minutes'],
  ])('%o', (parts, said) => {
    expect(words(parts)).toBe(said);
  });
});
