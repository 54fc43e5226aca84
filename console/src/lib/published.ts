// The types of the service's own events, as people call them.
export const publishedTypes = [
  ['ironbell.run.ended', 'the end of each run'],
  ['ironbell.delivery.failed', 'a delivery that failed'],
  ['ironbell.alert.opened', 'an alert that opens'],
  ['ironbell.alert.closed', 'an alert that is closed'],
  ['ironbell.calendar.changed', 'a calendar that changes'],
] as const;

/** Whether one of some types, which may end with *, is for events of a type. */
export const wants = (types: string[], kind: string) =>
  types.some((t) => (t.endsWith('*') ? kind.startsWith(t.slice(0, -1)) : t === kind));

/** The types that somebody chose: as they were written before, when that is still what they mean. */
export function chosen(types: string[], before: string[]): string[] {
  const same = publishedTypes.every(([kind]) => types.includes(kind) === wants(before, kind));
  return same ? before : types;
}

/** What types stand for, in words. */
export function inWords(types: string[]): string {
  const all = publishedTypes.filter(([kind]) => wants(types, kind)).map(([, words]) => words);
  if (all.length === publishedTypes.length) return 'everything that is published';
  return all.join(', ');
}
