// What may be written in the fields of an editor: the records that there are.
import type { Calendar, Person, Place, Report } from '../api';
import type { Around } from './context';
import type { Written } from './hint';

type Known = {
  value: Written;
  places: Pick<Place, 'name' | 'protocol'>[];
  sources: Pick<Place, 'name' | 'protocol'>[];
  people: Pick<Person, 'login' | 'name'>[];
  reports: Pick<Report, 'name' | 'sections' | 'workbooks'>[];
  calendars: Pick<Calendar, 'name'>[];
  zones: string[];
  styles?: { name: string }[]; // of the house
};

const names = (all: { name: string }[]) => all.map((one) => one.name);
const records = (v: unknown) => (Array.isArray(v) ? v : []) as Written[];

export function offersOf(known: () => Known): Around['offers'] {
  return (schema, field) => {
    const k = known();
    switch (`${schema}.${field}`) {
      case 'JobRequest.zone':
        return { words: k.zones, closed: true };
      case 'JobRequest.calendars':
        return { words: names(k.calendars) };
      case 'JobRequest.owner':
      case 'JobRequest.second_owner':
      case 'ReportRequest.owner':
        return { words: k.people.map((p) => p.login) };
      case 'ReportTask.report':
        return { words: names(k.reports), closed: true };
      case 'ReportTask.counts':
      case 'Chosen.section':
        return { words: [...new Set(k.reports.flatMap((r) => (used(k, r.name) ? names(r.sections) : [])))] };
      case 'Output.workbook':
        return {
          words: [...new Set(k.reports.flatMap((r) => (used(k, r.name) ? names(r.workbooks ?? []) : [])))],
        };
      case 'DeliverTask.destination':
        return { words: names(k.places), closed: true };
      case 'CallTask.destination':
        return { words: names(k.places.filter((d) => d.protocol === 'http')), closed: true };
      case 'CollectTask.source':
        return { words: names(k.sources.filter((s) => s.protocol === 'folder')), closed: true };
      case 'FetchTask.source':
        return { words: names(k.sources.filter((s) => s.protocol === 'http')), closed: true };
      case 'QueryTask.source':
      case 'ListQuery.source':
      case 'ReportRequest.source':
        return {
          words: names(k.sources.filter((s) => s.protocol !== 'folder' && s.protocol !== 'http')),
          closed: true,
        };
      case 'Task.uses':
        return { words: records(k.value.tasks).map((t) => String(t.name)) };
      case 'DeliverTask.formats':
        return { words: ['pdf', 'xlsx', 'csv', 'tsv', 'json', 'jsonl', 'html', 'png', 'pptx'] };
      case 'TextForm.encoding':
        return { words: ['utf-8', 'utf-8-mark', 'utf-16', 'windows-1252', 'iso-8859-1', 'iso-8859-15'] };
      case 'ReportRequest.house_style':
        return { words: names(k.styles ?? []), closed: true };
      case 'Output.locale':
        return { words: ['en-GB', 'de', 'fr', 'nl', 'es', 'it', 'pt', 'sv', 'da', 'nb', 'fi', 'pl'] };
    }
    return undefined;
  };
}

function used(k: Known, report: string): boolean {
  return records(k.value.tasks).some((t) => (t.report as Written | undefined)?.report === report);
}
