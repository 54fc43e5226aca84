// A rule put together by clicking, and its words.

export const weekdays = ['Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday', 'Sunday'];
export const places = ['first', 'second', 'third', 'fourth', 'fifth', '2nd to last', 'last'];

export type Days = 'every' | 'weekdays' | 'open' | 'week' | 'numbers' | 'place';
export type RuleParts = {
  days: Days;
  week: string[]; // of weekdays
  numbers: string; // of days, such as 1, 15
  place: string;
  what: string; // day, open day, or a weekday
  period: 'month' | 'quarter' | 'year';
  often: 'at' | 'repeat';
  times: string[]; // such as 06:00
  step: number;
  unit: 'minutes' | 'hours';
  from: string; // of the window, empty for none
  to: string;
  closed: '' | 'skip' | 'before' | 'after';
};

export const freshRule = (): RuleParts => ({
  days: 'weekdays',
  week: ['Monday'],
  numbers: '1, 15',
  place: 'last',
  what: 'open day',
  period: 'month',
  often: 'at',
  times: ['06:00'],
  step: 15,
  unit: 'minutes',
  from: '',
  to: '',
  closed: '',
});

/** Words joined as in a sentence. */
function listed(words: string[]): string {
  return words.length > 1 ? `${words.slice(0, -1).join(', ')} and ${words.at(-1)}` : (words[0] ?? '');
}

function daysOf(r: RuleParts): string {
  switch (r.days) {
    case 'every':
      return 'every day';
    case 'weekdays':
      return 'on weekdays';
    case 'open':
      return 'on open days';
    case 'week':
      return `on ${listed(weekdays.filter((d) => r.week.includes(d)).map((d) => d.toLowerCase()))}`;
    case 'numbers':
      return `on day ${listed(r.numbers.split(/[\s,]+/).filter(Boolean))} of every ${r.period}`;
    case 'place':
      return `on the ${r.place} ${r.what.toLowerCase()} of every ${r.period}`;
  }
}

function timesOf(r: RuleParts): string {
  if (r.often === 'at') return `at ${listed([...new Set(r.times.filter(Boolean))].sort())}`;
  const window = r.from && r.to ? ` between ${r.from} and ${r.to}` : '';
  const unit = r.step === 1 ? r.unit.slice(0, -1) : `${r.step} ${r.unit}`;
  return `every ${unit}${window}`;
}

/** The rule in words. What is not filled in yet is missing in them, too, and the service says so. */
export function ruleWords(r: RuleParts): string {
  return [daysOf(r), timesOf(r), r.closed && `${r.closed} closed days`].filter(Boolean).join(' ');
}
