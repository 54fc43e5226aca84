import { describe, expect, it } from 'vitest';
import { byItself, without } from './hint';
import { merge, put } from './merge';

const was = {
  zone: 'Europe/London',
  retry: { times: 3, wait: '10m' },
  tasks: [
    { name: 'report', kind: 'report' },
    { name: 'mail', kind: 'deliver', deliver: { to: ['a@tarnwick.example'], subject: 'Load' } },
  ],
};

describe('two at one record', () => {
  it('keeps both their changes', () => {
    const mine = { ...was, zone: 'Europe/Oslo' };
    const theirs = { ...was, retry: { times: 5, wait: '10m' } };
    expect(merge(was, mine, theirs)).toEqual({
      value: { ...was, zone: 'Europe/Oslo', retry: { times: 5, wait: '10m' } },
      clashes: [],
      theirs: ['retry'],
    });
  });

  it('names the field that both changed, down to a task', () => {
    const task = (subject: string) => ({
      ...was,
      tasks: [was.tasks[0], { ...was.tasks[1], deliver: { to: ['a@tarnwick.example'], subject } }],
    });
    const m = merge(was, task('Mine'), task('Theirs'));
    expect(m.clashes).toEqual([
      { path: 'tasks[mail].deliver.subject', was: 'Load', mine: 'Mine', theirs: 'Theirs' },
    ]);
    expect(m.value).toEqual(task('Mine'));
    expect(put(m.value, 'tasks[mail].deliver.subject', 'Theirs')).toEqual(task('Theirs'));
  });

  it('adds what they added, and drops what one removed and the other left alone', () => {
    const theirs = { ...was, tasks: [...was.tasks, { name: 'files', kind: 'deliver' }] };
    const mine = { ...was, tasks: [was.tasks[0]] };
    const m = merge(was, mine, theirs);
    expect((m.value.tasks as { name: string }[]).map((t) => t.name)).toEqual(['report', 'files']);
    expect(m.clashes).toEqual([]);
  });

  it('asks when one removed what the other changed', () => {
    const mine = { ...was, tasks: [was.tasks[0]] };
    const theirs = { ...was, tasks: [was.tasks[0], { name: 'mail', kind: 'call' }] };
    expect(merge(was, mine, theirs).clashes.map((c) => c.path)).toEqual(['tasks[mail]']);
  });
});

describe('what is written', () => {
  it('leaves out what says nothing, and keeps what means something by being empty', () => {
    expect(
      without({
        zone: 'UTC',
        tags: [],
        retry: { times: 0 },
        on: false,
        tasks: [{ name: 'a', after: [], only_if: '' }],
        values: { port: '' },
      }),
    ).toEqual({
      zone: 'UTC',
      retry: { times: 0 },
      on: false,
      tasks: [{ name: 'a', after: [] }],
      values: { port: '' },
    });
  });

  it('reads what stands when a field is left empty', () => {
    expect(byItself('what to do when nothing was found; hold when left out')).toBe('hold');
    expect(byItself('table when left out')).toBe('table');
    expect(byItself('a file')).toBe('');
  });
});
