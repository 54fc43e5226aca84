// Tasks in words.
import type { JobPage } from './api';

export type Task = NonNullable<JobPage['tasks']>[number];

/** What a task does, in words and in its own terms; readAs: whom each report is read as. */
export function does(t: Task, readAs: JobPage['read_as']): [string, string] {
  if (t.report)
    return [
      `report “${t.report.report}”, read as ${readAs?.[t.name] ?? 'the login of its source'}, as`,
      (t.report.outputs ?? []).map((o) => `${o.format}${o.name ? `: ${o.name}` : ''}`).join('\n'),
    ];
  if (t.deliver) {
    const d = t.deliver;
    const whom = [
      ...(d.to ?? []),
      ...(d.to_query ? [`addresses from “${d.to_query.source}”`] : []),
      ...(d.cc ?? []).map((a) => `copy ${a}`),
      ...(d.bcc ?? []).map((a) => `blind copy ${a}`),
    ];
    if (whom.length) return [`deliver over “${d.destination}” to`, whom.join(', ')];
    return [
      `bring the files to “${d.destination}”`,
      [
        d.folder && `folder ${d.folder}`,
        d.name && `as ${d.name}`,
        d.if_exists && `if one exists: ${d.if_exists}`,
      ]
        .filter(Boolean)
        .join(', '),
    ];
  }
  if (t.collect)
    return [
      `collect ${t.collect.take ?? 'newest'} from “${t.collect.destination || t.collect.source}”`,
      t.collect.pattern,
    ];
  if (t.fetch) return ['fetch', t.fetch.url];
  if (t.convert)
    return [
      `convert ${t.convert.pattern ?? 'the files before'} to`,
      (t.convert.outputs ?? []).map((o) => o.format).join(', '),
    ];
  if (t.query) return [`run a statement on “${t.query.source}”`, t.query.sql];
  if (t.program) return ['run program', [t.program.program, ...(t.program.arguments ?? [])].join(' ')];
  if (t.call) return [`call “${t.call.destination}”`, t.call.path ?? ''];
  if (t.emit) return ['raise the event', t.emit.type];
  return [t.kind, ''];
}

/** Where a task stands in its chain; i counts from 0. */
export function place(t: Task, i: number): string {
  const words = [];
  if (t.after?.length) words.push(`after ${t.after.join(' and ')}`);
  else if (t.after && i > 0) words.push('at once');
  if (t.only_if) words.push(`only if ${t.only_if}`);
  if (t.if_failed === 'go on') words.push('if it fails, the job goes on');
  return words.join('; ');
}
