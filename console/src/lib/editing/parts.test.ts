import { describe, expect, it } from 'vitest';
import { partsOf } from './parts';

const reports = [
  {
    name: 'Load',
    parameters: [{ name: 'port', label: 'Port', type: 'text' as const }],
    sections: [{ name: 'By port', columns: [{ name: 'Cars', total: 'sum' as const }, { name: 'Port' }] }],
  },
];
const job = {
  tasks: [
    { name: 'load', kind: 'report', report: { report: 'Load' } },
    { name: 'mail', kind: 'deliver', deliver: {} },
    { name: 'beside', kind: 'fetch', after: [] },
  ],
};

describe('the moving parts of a text', () => {
  it('are the facts of the run, its values, and what the tasks before found', () => {
    const parts = partsOf(job, reports, 'tasks[1].deliver.subject');
    expect(parts).toContain('{value.port}');
    expect(parts).toContain('{rows("load")}');
    expect(parts).toContain('{total("Cars")}');
    expect(parts).toContain('{cell("Port")}');
    expect(parts).toContain('{file("load")}');
    expect(parts.join()).not.toContain('beside');
  });
  it('of a condition stand without braces', () => {
    const parts = partsOf(job, reports, 'tasks[1].only_if');
    expect(parts).toContain('rows("load")');
    expect(parts).toContain('outcome("load") == "done"');
    expect(partsOf(job, reports, 'tasks[0].report.blank_if')).toContain('total("Cars")');
    expect(partsOf(job, reports, 'tasks[0].only_if').join()).not.toContain('load');
  });
  it('are none where there is no task', () => {
    expect(partsOf(job, reports, 'owner')).toEqual([]);
  });
});
