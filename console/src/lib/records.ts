// Records of every kind, as far as all are alike.
import { p } from '../router';

export type Kind =
  | 'job'
  | 'report'
  | 'group'
  | 'post'
  | 'destination'
  | 'calendar'
  | 'source'
  | 'sender'
  | 'subscription'
  | 'person';
export type RecordName = { kind: string; name: string };

/** What is said of a kind. */
const words: Record<Kind, { copied: string }> = {
  job: { copied: 'The copy is off; it has the same triggers, tasks and values, and you own it.' },
  report: { copied: 'The copy has the same queries and layout, and you own it.' },
  group: { copied: 'The copy has the same members.' },
  post: { copied: 'The copy stands at the same place, held by the same people.' },
  destination: { copied: 'The copy has the same settings and the same password.' },
  calendar: { copied: 'The copy has the same days; no job goes by it yet.' },
  source: { copied: 'The copy has the same settings and password; identities are not copied.' },
  sender: { copied: 'The copy may send the same, and has no token and no key yet.' },
  subscription: { copied: 'The copy goes to the same destination, from now on.' },
  person: {
    copied:
      'The name is their sign-in name. The copy has the same role and zone, and no address or password.',
  },
};
export const kindWord = (kind: Kind) => words[kind];

/** Some records in a row, the first of them when they are many. */
export function listed(all: RecordName[]): string {
  const shown = all.slice(0, 8).map((r) => `${r.kind} ${r.name}`);
  return shown.join(', ') + (all.length > shown.length ? ` and ${all.length - shown.length} more` : '');
}

/** Where a record is looked at. */
export function linkOf(r: RecordName): string {
  switch (r.kind) {
    case 'job':
      return p('/jobs/:job', { params: { job: r.name } });
    case 'report':
      return p('/reports/:report', { params: { report: r.name } });
    case 'calendar':
      return p('/calendars/:calendar', { params: { calendar: r.name } });
    case 'destination':
      return p('/destinations');
    case 'source':
      return p('/sources');
    case 'sender':
    case 'subscription':
      return p('/events');
    case 'group':
      return `${p('/people')}?${new URLSearchParams({ group: r.name })}`;
    case 'post':
      return `${p('/people')}?${new URLSearchParams({ post: r.name })}`;
    case 'person':
      return `${p('/people')}?${new URLSearchParams({ who: r.name })}`;
  }
  return p('/settings');
}
