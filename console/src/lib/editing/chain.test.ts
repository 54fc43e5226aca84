import { describe, expect, it } from 'vitest';
import { before, join, links, part, putAfter, putBeside, restored, takeOut, written } from './chain';

const tasks = [
  { name: 'readings', kind: 'collect' },
  { name: 'check', kind: 'query', if_failed: 'go on' },
  { name: 'mail', kind: 'deliver', only_if: 'rows >= 10' },
  { name: 'files', kind: 'deliver', after: ['readings'] },
];
const pairs = (all: typeof tasks) => links(all).map((l) => `${l.from}>${l.to}`);

describe('the chain of a job', () => {
  it('follows the list where no order is told', () => {
    expect(pairs(tasks)).toEqual(['readings>check', 'check>mail', 'readings>files']);
    expect(links(tasks)[1]).toMatchObject({ condition: 'rows >= 10', evenFailed: true });
    expect(before(tasks, 'readings', 'mail')).toBe(true);
    expect(before(tasks, 'mail', 'readings')).toBe(false);
  });

  it('joins and parts, and makes no circle', () => {
    expect(pairs(join(tasks, 'check', 'files'))).toContain('check>files');
    expect(join(tasks, 'mail', 'readings')).toBe(tasks);
    expect(pairs(part(tasks, 'check', 'mail'))).toEqual(['readings>check', 'readings>files']);
  });

  it('puts a task between, beside, and takes one out', () => {
    const seal = { name: 'seal', kind: 'program' };
    expect(pairs(putAfter(tasks, 'check', seal))).toEqual([
      'readings>check',
      'check>seal',
      'seal>mail',
      'readings>files',
    ]);
    expect(pairs(putBeside(tasks, 'check', seal))).toContain('readings>seal');
    expect(pairs(takeOut(tasks, 'check'))).toEqual(['readings>mail', 'readings>files']);
  });
});

describe('a chain that is taken back', () => {
  it('keeps what was written meanwhile, and brings back what was taken out', () => {
    const was = written([
      { name: 'report', kind: 'report' },
      { name: 'mail', kind: 'deliver', subject: 'old' },
    ]);
    const now = [{ name: 'report', kind: 'report', after: [], title: 'written since' }];
    expect(restored(was, now)).toEqual([
      { name: 'report', kind: 'report', after: [], title: 'written since' },
      { name: 'mail', kind: 'deliver', subject: 'old', after: ['report'] },
    ]);
  });
});
