// Which fields of a record are usual, in the order in which one thinks of them. The others stand
// behind "More", which is open where one of them says something.

const usual: Record<string, string[]> = {
  CallTask: ['destination', 'path', 'body'],
  Chart: ['form', 'along', 'series', 'split'],
  Choices: ['list', 'sql'],
  Choice: ['value', 'label'],
  Chosen: ['section', 'form', 'title'],
  CollectTask: ['source', 'pattern', 'take'],
  Column: ['name', 'label', 'decimals', 'unit', 'total', 'percent', 'hidden'],
  Condition: ['job', 'ends', 'event', 'source', 'subject'],
  Deadline: ['at', 'within'],
  Detail: ['sql', 'title'],
  EmitTask: ['type', 'subject', 'data'],
  ConvertTask: ['pattern', 'outputs'],
  FilledCell: ['cell', 'value', 'section', 'column', 'text'],
  FilledTable: ['table', 'section', 'form'],
  FetchTask: ['url', 'source', 'name'],
  LinkTerms: ['for', 'days', 'archive'],
  ListQuery: ['source', 'sql'],
  Output: ['format', 'name', 'sections'],
  Page: ['size', 'direction'],
  Parameter: ['name', 'label', 'type', 'default', 'required', 'several', 'all', 'help', 'choices'],
  ProgramTask: ['program', 'arguments'],
  QueryTask: ['source', 'sql'],
  ReportTask: ['report', 'outputs'],
  Retry: ['times', 'wait', 'until'],
  Section: ['name', 'kind', 'sql', 'title'],
  Split: ['each', 'values', 'query'],
  Usual: ['at_least', 'share'],
};

/** Of those behind "More": what comes first there, since one rests on the other. */
const later: Record<string, string[]> = { Output: ['workbook', 'values_only', 'hidden_sheets'] };

export type Ordered = { first: string[]; more: string[] };

/** The fields of a schema that are shown at once, and those behind "More". */
export function ordered(schema: string, known: string[], leave: string[] = []): Ordered {
  const of = known.filter((n) => !leave.includes(n));
  const first = usual[schema]?.filter((n) => of.includes(n)) ?? of;
  const rest = of.filter((n) => !first.includes(n));
  const together = (later[schema] ?? []).filter((n) => rest.includes(n));
  return { first, more: [...together, ...rest.filter((n) => !together.includes(n))] };
}
