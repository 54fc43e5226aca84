// A job as it is written: how one begins, what the service says of it.
import { Problem, type Ahead, type Values } from '../api';
import type { Fault } from './context';
import { without, type Hint, type Written } from './hint';
import { hints } from './hints.gen';

/** What the service gives of a record, without what it adds: as it can be saved. */
export function asSaved(schema: string, record: unknown): Written {
  const known = hints[schema] ?? {};
  return Object.fromEntries(
    Object.entries((record ?? {}) as Written)
      .filter(([key, v]) => key in known && v !== undefined && v !== null)
      .map(([key, v]) => [key, fieldAsSaved(known[key] as Hint, v)]),
  );
}

function fieldAsSaved(hint: Hint, v: unknown): unknown {
  if (hint.form === 'one' && hint.of) return asSaved(hint.of, v);
  if (hint.form === 'many' && hint.of && Array.isArray(v))
    return v.map((member) => asSaved(hint.of as string, member));
  return v;
}

/** A job that somebody begins: one report, by mail, on a rule that is to be written. */
export function freshJob(zone: string, destination: string, report = '', values: Values = {}): Written {
  return {
    on: false,
    zone,
    triggers: [{ rule: '' }],
    values,
    tasks: [
      {
        name: 'report',
        kind: 'report',
        report: { report, outputs: [{ format: 'pdf' }, { format: 'html-mail' }] },
      },
      { name: 'mail', kind: 'deliver', deliver: { destination, to: [] } },
    ],
    retry: { times: 3, wait: '10m' },
  };
}

/** The kinds of tasks, with what they are called where one is added. */
export const kinds: { kind: string; of: string; add: string; begins: Written }[] = [
  { kind: 'report', of: 'ReportTask', add: 'A report', begins: { report: '', outputs: [{ format: 'pdf' }] } },
  { kind: 'deliver', of: 'DeliverTask', add: 'A mail or files to a place', begins: { destination: '' } },
  { kind: 'collect', of: 'CollectTask', add: 'Pick up files', begins: { source: '', pattern: '' } },
  { kind: 'fetch', of: 'FetchTask', add: 'Fetch a file', begins: { url: '' } },
  { kind: 'convert', of: 'ConvertTask', add: 'Convert files', begins: { outputs: [{ format: 'xlsx' }] } },
  { kind: 'query', of: 'QueryTask', add: 'A statement', begins: { source: '', sql: '' } },
  { kind: 'program', of: 'ProgramTask', add: 'A program', begins: { program: '' } },
  { kind: 'call', of: 'CallTask', add: 'Call an address', begins: { destination: '' } },
  { kind: 'emit', of: 'EmitTask', add: 'Raise an event', begins: { type: '' } },
];

/** A new task of a kind, with a name that no other has. */
export function freshTask(kind: string, taken: string[], begins: Written): Written {
  let name = kind;
  for (let n = 2; taken.includes(name); n++) name = `${kind} ${n}`;
  return { name, kind, [kind]: structuredClone(begins) };
}

/** The fields that say how a file is handed over, and those of a mail. */
export const ofFiles = ['folder', 'name', 'if_exists'];
export const ofMail = [
  'to',
  'cc',
  'bcc',
  'to_query',
  'subject',
  'body',
  'files',
  'zip',
  'too_large',
  'link',
  'reply_to',
  'priority',
  'if_nobody',
  'may_leave',
];

/** What can be asked of the service: rules that are still to be written do not ring. */
export function toAsk(value: Written): Written {
  const asked = without(value) as Written;
  const triggers = (asked.triggers ?? []) as Written[];
  return { ...asked, triggers: triggers.filter((t) => t.rule || t.wait) };
}

const words: [RegExp, string][] = [
  [/^expected (array )?length >= 1$/, 'is missing'],
  [/^expected integer$/, 'takes a whole number'],
  [/^expected number <= (.+)$/, 'is at most $1'],
  [/^expected number >= (.+)$/, 'is at least $1'],
  [/^expected number.*$/, 'takes a number'],
  [/^expected length <= (\d+)$/, 'is at most $1 letters long'],
  [/^unexpected property$/, 'is not known'],
];

/** A sentence of the description's check in words, at the field that it speaks of. */
function plainly(at: string, message: string): Omit<Fault, 'n'> {
  const lacks = /^expected required property (\w+) to be present$/.exec(message)?.[1];
  const where = lacks ? (at ? `${at}.${lacks}` : lacks) : at;
  const found = lacks ? 'is missing' : words.find(([from]) => from.test(message));
  if (!found) return { where, sentence: message };
  const field = (where.split('.').pop() ?? '').replace(/\[\d+\]$/, '').replaceAll('_', ' ');
  const says = typeof found === 'string' ? found : message.replace(...found);
  return { where, sentence: `${field.charAt(0).toUpperCase()}${field.slice(1)} ${says}.` };
}

/** What a refusal says of single fields. */
export function faultsOf(error: unknown): Omit<Fault, 'n'>[] {
  if (!(error instanceof Problem)) return [{ where: '', sentence: String(error) }];
  const found = error.details
    .filter((d) => d.message)
    .map((d) => plainly((d.location ?? '').replace(/^body\.?/, ''), d.message ?? ''));
  return found.length ? found : [{ where: '', sentence: error.message }];
}

/** All that is missing or wrong, numbered for the flags. */
export function numbered(all: Omit<Fault, 'n'>[]): Fault[] {
  return all.map((f, i) => ({ ...f, n: i + 1 }));
}

/** What is wrong by the look ahead. */
export const aheadFaults = (a: Ahead) => a.wrong.map((w) => ({ where: w.where ?? '', sentence: w.sentence }));
