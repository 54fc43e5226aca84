// What the fields of a report and a job are called, where their name in the API does not do.

const labels: Record<string, string> = {
  'Column.better': 'Which change is good',
  'Column.before': 'Earlier number in column',
  'Column.date': 'Form of dates',
  'Column.ungrouped': 'No marks between thousands',
  'Column.unit_first': 'Unit before the number',
  'Chart.split': 'One series for each value of',
  'Chart.series': 'Columns drawn',
  'Choices.list': 'Choices from a list',
  'Choices.sql': 'Choices from a query',
  'CollectTask.take': 'If there are several',
  'CollectTask.settled': 'Unchanged for',
  'CollectTask.largest': 'Largest file, bytes',
  'Deadline.at': 'By the time of day',
  'Deadline.within': 'Within, after it was due',
  'DeliverTask.bcc': 'Blind copy',
  'DeliverTask.body': 'Text',
  'DeliverTask.cc': 'Copy',
  'DeliverTask.files': 'The files are',
  'DeliverTask.formats': 'Takes only formats',
  'DeliverTask.if_exists': 'If the file exists',
  'DeliverTask.if_nobody': 'If it comes to nobody',
  'DeliverTask.may_leave': 'Recipients may leave the list',
  'DeliverTask.name': 'File name',
  'DeliverTask.reply_to': 'Answers go to',
  'DeliverTask.to_query': 'Addresses from a query',
  'DeliverTask.too_large': 'If the mail is too large',
  'DeliverTask.zip': 'In one archive called',
  'Emphasis.as': 'Looks',
  'ConvertTask.pattern': 'Files',
  'ConvertTask.form': 'How they are written',
  'ConvertTask.text': 'Columns that are text',
  'ConvertTask.together': 'All in one',
  'FetchTask.largest': 'Largest file, bytes',
  'FetchTask.url': 'Address',
  'JobRequest.after_outage': 'Rings missed in an outage',
  'JobRequest.alert_on': 'Tell the owner also of',
  'JobRequest.blank_then': 'If still nothing was found',
  'JobRequest.delay': 'Wait after the ring',
  'JobRequest.if_blank': 'If nothing was found',
  'JobRequest.if_unknown': 'If an answer was lost',
  'JobRequest.if_unusual': 'If it is unusual',
  'JobRequest.joiners': 'Who may join its mails',
  'JobRequest.keep': 'How long it is kept',
  'JobRequest.overlap': 'If the last run still works',
  'JobRequest.own': 'Names of values of its own',
  'JobRequest.patience': 'Deliveries that fail',
  'JobRequest.retry': 'Runs that fail',
  'JobRequest.run_limit': 'Longest run',
  'JobRequest.side_by_side': 'Tasks side by side',
  'JobRequest.tags': 'Labels',
  'JobRequest.time_limit': 'Longest task',
  'JobRequest.unusual_then': 'If it is still unusual',
  'JobRequest.urgent': 'Alerts wake people',
  'JobRequest.usual': 'What is usual',
  'LinkTerms.archive': 'Leads to earlier runs, too',
  'LinkTerms.days': 'Ends after days',
  'LinkTerms.for': 'May be followed by',
  'ListQuery.sql': 'Query',
  'Output.data_only': 'Heads and rows alone',
  'Output.for_system': 'Read by another system',
  'Output.locale': 'Language',
  'Output.name': 'File name',
  'Output.page': 'Paper',
  'Output.tagged': 'For screen readers',
  'Output.text': 'Text file',
  'Parameter.all': 'Takes the word all',
  'Parameter.default': 'By itself',
  'Parameter.several': 'Takes several values',
  'ProgramTask.input': 'Text it reads',
  'ProgramTask.variables': 'Environment variables',
  'QueryTask.sql': 'Statement',
  'ReportTask.blank_if': 'Counts as blank if',
  'ReportTask.counts': 'Sections that count for blank',
  'ReportTask.identity': 'Read as',
  'ReportTask.no_rows': 'Keep no rows to compare by',
  'ReportRequest.identity': 'Read as',
  'ReportRequest.schedulers': 'Who may schedule it for themselves',
  'ReportRequest.title': 'Title above it',
  'Retry.growth': 'Each wait times the last',
  'Retry.times': 'More tries',
  'Retry.until': 'Until',
  'Retry.wait': 'Apart',
  'Section.group': 'Grouped by',
  'Section.key': 'Rows are told apart by',
  'Section.sql': 'Query',
  'Detail.sql': 'Query',
  'Detail.key': 'Rows are told apart by',
  'Detail.title': 'Title above it',
  'Section.title': 'Title above it',
  'Section.detail': 'Underlying rows',
  'Split.each': 'Name of the value',
  'Task.only_if': 'Only if',
  'Task.if_failed': 'If it fails',
  'Task.repeatable': 'May be done twice',
  'Task.time_limit': 'Longest',
  'Task.uses': 'Takes the files of',
  'TextForm.no_header': 'Without heads',
  'TextForm.numbers': 'Numbers',
  'TextForm.quote': 'Quotes around',
  'TextForm.unfit': 'Letters it does not have',
  'Usual.at_least': 'Rows at least',
  'Usual.share': 'Least share of the usual rows',
};

/** Words for the choices that are no words of people. */
const choices: Record<string, string> = {
  csv: 'CSV',
  crlf: 'carriage return and line feed',
  html: 'HTML page',
  'html-mail': 'tables in the mail',
  json: 'JSON',
  jsonl: 'JSON Lines',
  lf: 'line feed',
  pdf: 'PDF',
  png: 'pictures',
  pptx: 'slides',
  tsv: 'tab-separated',
  xlsx: 'spreadsheet',
  house: 'everybody who can sign in',
  named: 'those who got the mail',
};

/** The name of a field for people. */
export function labelOf(schema: string, field: string): string {
  const known = labels[`${schema}.${field}`];
  if (known) return known;
  const words = field.replaceAll('_', ' ');
  return words.charAt(0).toUpperCase() + words.slice(1);
}

export function choiceOf(word: string): string {
  return choices[word] ?? word;
}

/** Help without what stands when the field is left empty, which the field itself shows. */
export function helpOf(help = ''): string {
  return help
    .replace(/; [^;]+ when left out$/, '')
    .replace(/^[^;]+ when left out$/, '')
    .replace(/^for the kind \w+$/, '');
}
