// Months as grids of dates, which have no zone.

/** The weeks of a month from Monday, each of seven dates or nulls. */
export function monthDays(year: number, month: number): (string | null)[][] {
  const first = new Date(Date.UTC(year, month - 1, 1));
  const length = new Date(Date.UTC(year, month, 0)).getUTCDate();
  const lead = (first.getUTCDay() + 6) % 7;
  const cells: (string | null)[] = Array.from({ length: lead }, () => null);
  for (let d = 1; d <= length; d += 1) {
    cells.push(`${year}-${String(month).padStart(2, '0')}-${String(d).padStart(2, '0')}`);
  }
  while (cells.length % 7) cells.push(null);
  return Array.from({ length: cells.length / 7 }, (_, i) => cells.slice(i * 7, i * 7 + 7));
}

/** "November 2026". */
export function monthName(year: number, month: number): string {
  return new Intl.DateTimeFormat('en-GB', { month: 'long', year: 'numeric', timeZone: 'UTC' }).format(
    new Date(Date.UTC(year, month - 1, 1)),
  );
}

/** The date of an instant in a zone, as 2026-11-23. */
export function dateIn(at: string | number | Date, zone: string): string {
  return new Intl.DateTimeFormat('en-CA', {
    timeZone: zone,
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
  }).format(new Date(at));
}

/** The months from that of a date on, as pairs of year and month. */
export function monthsFrom(date: string, count: number): [number, number][] {
  const year = Number(date.slice(0, 4));
  const month = Number(date.slice(5, 7));
  return Array.from({ length: count }, (_, i) => [
    year + Math.floor((month - 1 + i) / 12),
    ((month - 1 + i) % 12) + 1,
  ]);
}

/** The instant at which a date begins in a zone. */
export function startOf(date: string, zone: string): Date {
  // The offset at noon is right but on the days of a change of clocks; there the
  // date of the guess tells, and an hour is tried to either side.
  const guess = Date.parse(`${date}T00:00:00Z`);
  const wall = new Intl.DateTimeFormat('en-CA', {
    timeZone: zone,
    hourCycle: 'h23',
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
  });
  const shown = (ms: number) => {
    const p = Object.fromEntries(wall.formatToParts(new Date(ms)).map((x) => [x.type, x.value]));
    return Date.parse(`${p['year']}-${p['month']}-${p['day']}T${p['hour']}:${p['minute']}:00Z`);
  };
  let at = guess - (shown(guess) - guess);
  at += guess - shown(at);
  return new Date(at);
}

/** A date some days on. */
export function addDays(date: string, n: number): string {
  return new Date(Date.parse(`${date}T00:00:00Z`) + n * 86_400_000).toISOString().slice(0, 10);
}
