// Times as people read them: wall time with its zone, never a bare UTC.

const formats = new Map<string, Intl.DateTimeFormat>();

function format(zone: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = zone + JSON.stringify(options);
  let f = formats.get(key);
  if (!f) {
    f = new Intl.DateTimeFormat('en-GB', { ...options, timeZone: zone, hourCycle: 'h23' });
    formats.set(key, f);
  }
  return f;
}

type When = string | number | Date;

/** "14:05", or "14:05:09" with seconds. */
export function clock(at: When, zone: string, seconds = false): string {
  return format(zone, {
    hour: '2-digit',
    minute: '2-digit',
    ...(seconds && { second: '2-digit' }),
  }).format(new Date(at));
}

/** "Mon 23 Nov". */
export function day(at: When, zone: string): string {
  return format(zone, { weekday: 'short', day: 'numeric', month: 'short' })
    .format(new Date(at))
    .replace(',', '');
}

/** "Mon 23 Nov 2026", of what may lie in another year. */
export function fullDay(at: When, zone: string): string {
  return `${day(at, zone)} ${format(zone, { year: 'numeric' }).format(new Date(at))}`;
}

/** "Monday 23 November". */
export function longDay(at: When, zone: string): string {
  return format(zone, { weekday: 'long', day: 'numeric', month: 'long' })
    .format(new Date(at))
    .replace(',', '');
}

/** The zone as people say it: "London, GMT". */
export function zoneWord(zone: string, at: When = Date.now()): string {
  const short =
    format(zone, { timeZoneName: 'short' })
      .formatToParts(new Date(at))
      .find((p) => p.type === 'timeZoneName')?.value ?? '';
  const place = zone.split('/').pop()?.replaceAll('_', ' ') ?? zone;
  return short ? `${place}, ${short}` : place;
}

/** "14:05 GMT"; on another day than now "Tue 24 Nov 14:05 GMT", in another year "Tue 24 Nov 2027 14:05 GMT". */
export function wall(at: When, zone: string, seconds = false, now: When = Date.now()): string {
  const short = zoneWord(zone, at).split(', ').pop();
  const time = `${clock(at, zone, seconds)} ${short}`;
  const [its, ours] = [fullDay(at, zone), fullDay(now, zone)];
  if (its === ours) return time;
  return its.slice(-4) === ours.slice(-4) ? `${day(at, zone)} ${time}` : `${its} ${time}`;
}

/** A length of time: "40 ms", "4.2 s", "48 s", "1 min 10 s", "2 h 5 min", "3 days". */
export function length(seconds: number): string {
  const s = Math.max(0, seconds);
  if (s < 0.9995) return `${Math.round(s * 1000)} ms`;
  if (s < 10) return `${s.toFixed(1)} s`;
  const whole = Math.round(s);
  if (whole < 60) return `${whole} s`;
  const min = Math.floor(whole / 60);
  if (min < 60) return whole % 60 ? `${min} min ${whole % 60} s` : `${min} min`;
  const h = Math.floor(whole / 3600);
  if (h < 48) return Math.floor(min % 60) ? `${h} h ${min % 60} min` : `${h} h`;
  return `${Math.floor(h / 24)} days`;
}

/** The distance from now: "in 3 h", "12 s ago". */
export function distance(at: When, now: When = Date.now()): string {
  const s = (new Date(at).getTime() - new Date(now).getTime()) / 1000;
  const rounded = Math.abs(s) < 3600 ? Math.abs(s) : Math.round(Math.abs(s) / 60) * 60;
  const text = length(rounded < 10 ? Math.round(rounded) : rounded).replace('.0', '');
  return s >= 0 ? `in ${text}` : `${text} ago`;
}

/** Seconds between two instants. */
export function between(from: When, to: When): number {
  return (new Date(to).getTime() - new Date(from).getTime()) / 1000;
}

/** What a field for a date and a time shows: "2026-11-23T06:15", on the clocks of a zone. */
export function toField(at: When, zone: string): string {
  const parts = format(zone, {
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
  }).formatToParts(new Date(at));
  const part = (type: string) => parts.find((p) => p.type === type)?.value ?? '';
  return `${part('year')}-${part('month')}-${part('day')}T${part('hour')}:${part('minute')}`;
}

/** The instant that such a field means. A time that clocks leave out is taken an hour later. */
export function fromField(text: string, zone: string): Date {
  const wanted = Date.parse(text + ':00Z');
  let at = wanted;
  // The zone's offset is known at an instant only: the second look corrects the first.
  for (let look = 0; look < 2; look++) at += wanted - Date.parse(toField(at, zone) + ':00Z');
  return new Date(at);
}
