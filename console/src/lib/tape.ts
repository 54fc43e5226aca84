// The layout of the tape: runs of a day laid into lanes, each as long as it took.
import type { Coming, Day, Mark, RingChange } from './api';
import { between } from './time';

export type TapeMark = {
  key: string;
  count: number; // of rings, when it stands for several
  href: string;
  job: string;
  state: string; // of a run, "to come", or what a change does to a ring to come
  at: string;
  seconds: number | null;
  reason: string;
  x: number;
  width: number;
  lane: number;
};

/** Narrowest mark and the gap behind it, in pixels. */
const narrow = 5;
const gap = 1.5;

/** With more marks than this they are drawn thin. */
const crowd = 300;
const thin = 2.5;

/** Most lanes; what does not fit lies over the one that ends first. */
export const maxLanes = 7;

/** A ring to come, with what a change does to it when that is what is shown. */
export type Shown = Coming & { change?: RingChange['what'] };

/** Lays the day's runs and the rings to come onto a strip of a given width. */
export function layTape(day: Omit<Day, 'upcoming'> & { upcoming: Shown[] }, width: number): TapeMark[] {
  const start = new Date(day.from).getTime();
  const span = new Date(day.to).getTime() - start;
  const place = (at: string | number) => ((new Date(at).getTime() - start) / span) * width;
  const least = day.runs.length > crowd ? thin : narrow;
  const marks: TapeMark[] = [
    ...day.runs.map((r) => ofRun(r, day.now, least, place)),
    ...bands(day.upcoming.map((c) => ofComing(c, place))),
  ];
  for (const m of marks) m.width = Math.max(thin, Math.min(m.width, width - m.x));
  marks.sort((a, b) => a.x - b.x || a.key.localeCompare(b.key));
  const ends: number[] = [];
  for (const m of marks) {
    let lane = ends.findIndex((end) => end <= m.x);
    if (lane < 0) {
      lane = ends.length < maxLanes ? ends.length : ends.indexOf(Math.min(...ends));
    }
    ends[lane] = m.x + m.width + gap;
    m.lane = lane;
  }
  return marks;
}

/** Draws rings of one job and state that come closer than their marks are wide as one band. */
function bands(coming: TapeMark[]): TapeMark[] {
  const open: Record<string, TapeMark> = {};
  const out: TapeMark[] = [];
  for (const m of coming) {
    const kind = `${m.job} ${m.state}`;
    const band = open[kind];
    if (band && m.x < band.x + band.width + 2 * gap) {
      band.width = m.x + m.width - band.x;
      band.count += 1;
    } else {
      open[kind] = m;
      out.push(m);
    }
  }
  return out;
}

function ofRun(r: Mark, now: string, least: number, place: (at: string | number) => number): TapeMark {
  const from = r.started_at ?? r.due;
  const to = r.ended_at ?? (r.started_at ? now : from);
  const x = place(from);
  return {
    key: r.id,
    href: `/runs/${r.id}`,
    job: r.job,
    state: r.state,
    at: r.due,
    seconds: r.started_at ? between(from, to) : null,
    reason: r.reason,
    x,
    width: Math.max(least, place(to) - x),
    lane: 0,
    count: 1,
  };
}

function ofComing(c: Shown, place: (at: string | number) => number): TapeMark {
  const x = place(c.at);
  const usual = c.usual_seconds ?? null;
  return {
    key: `${c.job_id}@${c.at}${c.change ?? ''}${c.reading}`,
    href: c.job_id ? `/jobs/${c.job_id}` : '', // one that is not saved yet has no page
    job: c.job,
    state: c.change ?? 'to come',
    at: c.at,
    seconds: usual,
    reason: '',
    x,
    width: Math.max(narrow, usual ? place(new Date(c.at).getTime() + usual * 1000) - x : 0),
    lane: 0,
    count: 1,
  };
}
