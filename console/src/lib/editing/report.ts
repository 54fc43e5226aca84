// A report as it is written.
import type { ReportCheck } from '../api';
import type { Written } from './hint';

/** A report that somebody begins: one table. */
export function freshReport(source: string): Written {
  return { source, sections: [{ name: 'Table', sql: '' }], parameters: [] };
}

/** The names of parameters that a query speaks of, in the order in which they stand in it. */
export function asked(sql: string): string[] {
  const bare = sql
    .replace(/--[^\n]*/g, ' ')
    .replace(/\/\*[\s\S]*?\*\//g, ' ')
    .replace(/'(?:[^']|'')*'/g, ' ')
    .replace(/"[^"]*"/g, ' ');
  return [...new Set([...bare.matchAll(/(?<![:\w]):([A-Za-z_]\w*)/g)].map((m) => m[1] ?? ''))];
}

/** All queries of a report: of its sections, of what lies under them, and of choices. */
export function queriesOf(report: Written): string[] {
  const sections = (report.sections ?? []) as Written[];
  const parameters = (report.parameters ?? []) as Written[];
  return [
    ...sections.map((s) => s.sql),
    ...sections.map((s) => (s.detail as Written | undefined)?.sql),
    ...parameters.map((p) => (p.choices as Written | undefined)?.sql),
  ].filter((q): q is string => typeof q === 'string');
}

/** The fields of a section that its kind has a use for, beside name, kind and query. */
export const ofKind: Record<string, string[]> = {
  table: ['title', 'group', 'key'],
  figures: ['title'],
  chart: ['title', 'chart'],
  text: ['title', 'text'],
};

/** A parameter for a name that stands in a query, of the type that its name suggests. */
export function parameterFor(name: string): Written {
  const dated = /(^|_)(from|to|date|day|since|until)$/i.test(name);
  return { name, type: dated ? 'date' : 'text', required: true };
}

/** The columns that the query of a section, or of what lies under it, gives; path is that of a field in it. */
export function columnsAt(check: ReportCheck | undefined, report: Written, path: string): string[] {
  const at = Number(/^sections\[(\d+)\]/.exec(path)?.[1]);
  const section = (report.sections as Written[])[at]?.name;
  const under = path.includes('.detail');
  const found = check?.sections.find((s) => s.section === section && (s.form === 'detail') === under);
  return found?.columns.map((c) => c.name) ?? [];
}

/** Fields that take names of the columns which a query gives. */
export const takesColumns = [
  'Section.group',
  'Section.key',
  'Detail.key',
  'Chart.series',
  'Chart.along',
  'Chart.split',
  'Column.before',
];

/** What may be written where a workbook is said to take something. */
export function fillsWith(
  check: ReportCheck | undefined,
  report: Written,
  field: string,
  path: string,
): { words: string[]; closed?: boolean } | undefined {
  const at = Number(/^workbooks\[(\d+)\]/.exec(path)?.[1]);
  const book = ((report.workbooks ?? []) as Written[])[at];
  const has = check?.workbooks.find((p) => p.workbook === book?.name)?.file;
  const names = (of: unknown) => ((of ?? []) as { name?: unknown }[]).map((o) => String(o.name ?? ''));
  switch (field) {
    case 'FilledTable.table':
      return { words: names(has?.tables) };
    case 'FilledCell.cell':
      return { words: names(has?.cells.filter((c) => !c.formula)) };
    case 'FilledTable.section':
    case 'FilledCell.section':
      return { words: names(report.sections), closed: true };
    case 'FilledCell.value':
      return { words: [...names(report.parameters), 'as_of', 'run', 'report', 'title'], closed: true };
    case 'FilledCell.column': {
      const i = Number(/cells\[(\d+)\]/.exec(path)?.[1]);
      const section = ((book?.cells ?? []) as Written[])[i]?.section;
      const found = check?.sections.find((s) => s.section === section && !s.form);
      return { words: names(found?.columns) };
    }
  }
  return undefined;
}
