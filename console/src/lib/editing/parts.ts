// The moving parts that a text of a task may have, and the conditions that it may set.
import type { Report } from '../api';
import { before, followed } from './chain';
import type { Written } from './hint';

const records = (v: unknown) => (Array.isArray(v) ? v : []) as Written[];
const most = 40;

/**
 * What may be put into a field at a path such as tasks[1].deliver.subject: names by themselves for
 * a condition, in braces for a text.
 */
export function partsOf(
  job: Written,
  reports: Pick<Report, 'name' | 'parameters' | 'sections'>[],
  path: string,
): string[] {
  const at = Number(/^tasks\[(\d+)\]/.exec(path)?.[1] ?? NaN);
  const tasks = records(job.tasks);
  const task = tasks[at];
  if (!task) return [];
  const condition = /only_if$|blank_if$/.test(path);
  const name = String(task.name);
  const earlier = tasks.filter((t, i) => i !== at && before(tasks, String(t.name), name));
  const reportOf = (t: Written) => reports.find((r) => r.name === (t.report as Written | undefined)?.report);
  // The nearest come first: those that it follows.
  const near = followed(tasks, at);
  earlier.sort((a, b) => Number(near.includes(String(b.name))) - Number(near.includes(String(a.name))));
  const values = [...tasks, task].flatMap((t) => reportOf(t)?.parameters ?? []).map((p) => `value.${p.name}`);
  const columns = (t: Written, numbers: boolean) => [
    ...new Set(
      (reportOf(t)?.sections ?? []).flatMap((s) =>
        (s.columns ?? []).filter((c) => !numbers || c.total).map((c) => c.name),
      ),
    ),
  ];
  const quoted = (word: string) => JSON.stringify(word);
  const found = earlier.flatMap((t) => [
    `rows(${quoted(String(t.name))})`,
    ...(t.kind === 'report' ? columns(t, true).map((c) => `total(${quoted(c)})`) : []),
    ...(t.kind === 'report'
      ? (columns(t, false).length ? columns(t, false) : ['column']).map((c) => `cell(${quoted(c)})`)
      : []),
    `outcome(${quoted(String(t.name))})`,
    ...(['report', 'collect', 'fetch', 'convert'].includes(String(t.kind))
      ? [`file(${quoted(String(t.name))})`]
      : []),
  ]);
  const own = columns(task, true).map((c) => `total(${quoted(c)})`);
  const all = condition
    ? (path.endsWith('blank_if') ? [...own, ...values] : [...found, ...values]).map((p) =>
        p.startsWith('outcome') ? `${p} == "done"` : p,
      )
    : ['date:%Y-%m-%d', 'job', 'report', 'run', 'rows', ...values, ...found].map((p) => `{${p}}`);
  return [...new Set(all)].slice(0, most);
}
