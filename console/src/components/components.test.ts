import '@testing-library/jest-dom/vitest';
import { cleanup, render, screen, within } from '@testing-library/svelte';
import { afterEach, describe, expect, it } from 'vitest';
import { Problem, type Day, type Mark } from '../lib/api';
import { colour, toneOf } from '../lib/state';
import StateMark from './StateMark.svelte';
import Tape from './Tape.svelte';
import Trouble from './Trouble.svelte';
import Wall from './Wall.svelte';

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
    render(Wall, { at, zone: 'Europe/London' });
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
