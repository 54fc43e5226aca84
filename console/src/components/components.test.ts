import '@testing-library/jest-dom/vitest';
import { cleanup, render, screen, within } from '@testing-library/svelte';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { api, Problem, type Day, type Mark } from '../lib/api';
import { colour, toneOf } from '../lib/state';
import MonthGrid from './MonthGrid.svelte';
import StateMark from './StateMark.svelte';
import Tape from './Tape.svelte';
import Trouble from './Trouble.svelte';
import EditorInQueries from './testing/EditorInQueries.svelte';
import ZonedTime from './ZonedTime.svelte';

afterEach(cleanup);

// The simulated browser lays nothing out, so there is nothing to observe.
globalThis.ResizeObserver ??= class {
  observe() {}
  unobserve() {}
  disconnect() {}
};

const states = [
  ...['waiting', 'running', 'delivering', 'done', 'partly', 'blank', 'failed', 'cancelled', 'passed over'],
  ...['sending', 'offered', 'sent', 'bounced', 'unknown', 'open', 'acknowledged', 'closed', 'lost'],
];

describe('a state', () => {
  it('has a word and a sign beside its colour', () => {
    for (const state of states) {
      const { container } = render(StateMark, { state });
      expect(container).toHaveTextContent(state);
      expect(container.querySelector('svg')?.childElementCount, state).toBeGreaterThan(0);
      expect(colour[toneOf(state)]).toMatch(/^var\(--color-/);
      cleanup();
    }
  });
});

describe('trouble', () => {
  it('says what happened and each detail once', () => {
    render(Trouble, {
      error: new Problem(422, 'job "Board" was not accepted; nothing was changed.', [
        { location: 'zone', message: 'there is no time zone "X"' },
        { location: 'tasks', message: 'a job needs at least one task' },
      ]),
    });
    const alert = screen.getByRole('alert');
    expect(alert).toHaveTextContent('nothing was changed');
    expect(within(alert).getAllByRole('listitem')).toHaveLength(2);
  });

  it('does not repeat a detail that the sentence holds', () => {
    render(Trouble, {
      error: new Problem(422, 'zone: no such zone', [{ location: 'zone', message: 'no such zone' }]),
    });
    expect(screen.queryAllByRole('listitem')).toHaveLength(0);
  });
});

describe('a time', () => {
  it('shows its zone, and its distance on hover', () => {
    const at = new Date(Date.now() + 3 * 3600_000 + 30_000).toISOString();
    render(ZonedTime, { at, zone: 'Europe/London' });
    const time = screen.getByText(/(GMT|BST)$/);
    expect(time).toHaveAttribute('datetime', at);
    expect(time.title).toMatch(/^in 3 h/);
  });
});

describe('the tape', () => {
  const mark = (id: string, state: Mark['state'], minute: number): Mark => ({
    id,
    job_id: 1,
    job: 'Quay board',
    state,
    reason: 'a reason',
    due: `2026-11-23T08:${String(minute).padStart(2, '0')}:00Z`,
    started_at: `2026-11-23T08:${String(minute).padStart(2, '0')}:00Z`,
    ended_at: `2026-11-23T08:${String(minute).padStart(2, '0')}:30Z`,
  });
  const day: Day = {
    date: '2026-11-23',
    zone: 'Europe/London',
    from: '2026-11-23T00:00:00Z',
    to: '2026-11-24T00:00:00Z',
    now: '2026-11-23T09:00:00Z',
    counts: { done: 2, failed: 1 },
    runs: [mark('2611-1', 'done', 0), mark('2611-2', 'failed', 10), mark('2611-3', 'done', 20)],
    upcoming: [{ job_id: 2, job: 'Fuel', at: '2026-11-23T17:00:00Z', reading: 'every day at 17:00' }],
    next: [],
    attention: [],
    running: [],
  };

  it('reads as a list, each mark with its job, outcome, time and reason', () => {
    render(Tape, { day });
    const items = within(screen.getByRole('list')).getAllByRole('listitem');
    expect(items).toHaveLength(4);
    expect(
      screen.getByLabelText(/Quay board: failed, (Mon 23 Nov )?08:10 GMT, took 30 s\. a reason/),
    ).toHaveAttribute('href', '/runs/2611-2');
    expect(screen.getByLabelText(/Fuel: to come, (Mon 23 Nov )?17:00 GMT/)).toHaveAttribute(
      'href',
      '/jobs/2',
    );
  });

  it('counts in words and takes one stop of the tab key', () => {
    const { container } = render(Tape, { day });
    expect(container).toHaveTextContent('2 done');
    expect(container).toHaveTextContent('1 failed');
    expect(container).toHaveTextContent('1 to come');
    expect(container.querySelectorAll('a[tabindex="0"]')).toHaveLength(1);
  });
});

describe('a month', () => {
  it('tells by shape and word what happens on a day', () => {
    render(MonthGrid, {
      year: 2026,
      month: 11,
      days: {
        '2026-11-24': { tone: 'ring', count: 1, text: 'rings once' },
        '2026-11-30': { tone: 'passed', text: "passed over: Founders' Day" },
      },
    });
    const month = screen.getByRole('table', { name: 'November 2026' });
    expect(within(month).getAllByRole('row')).toHaveLength(7);
    expect(within(month).getByTitle('rings once')).toHaveTextContent('24: rings once');
    expect(within(month).getByTitle(/Founders/)).toHaveClass('line-through');
    expect(within(month).getAllByRole('columnheader')[0]).toHaveTextContent('Mo');
  });
});

describe('a small tape', () => {
  const day: Day = {
    date: '2026-11-23',
    zone: 'UTC',
    from: '2026-11-23T00:00:00Z',
    to: '2026-11-24T00:00:00Z',
    now: '2026-11-20T00:00:00Z',
    counts: {},
    runs: [],
    upcoming: [{ job_id: 1, job: 'Quay board', at: '2026-11-23T06:00:00Z', reading: 'every day at 06:00' }],
    next: [],
    attention: [],
    running: [],
  };

  it('has its own name, its rings, and no legend', () => {
    render(Tape, { day, small: true, hours: false, label: 'Monday 23 November' });
    const tape = screen.getByRole('region', { name: 'Monday 23 November' });
    expect(within(tape).getByRole('link', { name: /Quay board: to come/ })).toBeInTheDocument();
    expect(tape).not.toHaveTextContent('1 to come');
    expect(within(tape).queryByText('06:00')).toBeNull();
  });

  it('shows the hours where they are asked for', () => {
    render(Tape, { day, small: true, hours: true, label: 'Monday' });
    expect(screen.getByText('06:00')).toBeInTheDocument();
  });
});

describe('the rule editor', () => {
  const answer = (data: object) =>
    vi.spyOn(api, 'POST').mockResolvedValue({ data, response: new Response() } as never);
  const said = {
    reading: 'on weekdays at 06:15',
    notation: 'words',
    often: '5 times a week',
    warnings: ['The minute is a star.'],
    zone: 'Europe/London',
    fires: [
      { at: '2026-11-24T06:15:00Z' },
      { at: '2026-11-30T06:15:00Z', passed: true, reason: 'Founders’ Day' },
    ],
    days: [{ date: '2026-11-24', rings: 1 }],
  };

  it('shows reading, warnings and the next rings, and what is passed over', async () => {
    answer(said);
    render(EditorInQueries, { rule: 'on weekdays at 06:15' });
    expect(await screen.findByText('on weekdays at 06:15', { selector: 'b' })).toBeInTheDocument();
    expect(screen.getByText(/it rings 5 times a week/)).toBeInTheDocument();
    expect(screen.getByText(/The minute is a star/)).toBeInTheDocument();
    expect(screen.getByText('Founders’ Day')).toBeInTheDocument();
  });

  it('points at the column and offers the word that was meant', async () => {
    answer({
      warnings: [],
      fires: [],
      days: [],
      zone: 'UTC',
      wrong: { field: 'rule', column: 4, sentence: 'found "mondey", expected days', meant: 'monday' },
    });
    render(EditorInQueries, { rule: 'on mondey at 07:00' });
    expect(await screen.findByText('Column 4')).toBeInTheDocument();
    const box = screen.getByRole('textbox', { name: /Rule, in words/ });
    expect(box).toHaveAttribute('aria-invalid', 'true');
    screen.getByRole('button', { name: 'Write “monday”' }).click();
    await vi.waitFor(() => expect(box).toHaveValue('on monday at 07:00'));
  });
});
