// What the pages ask of the service: the key, the question and the freshness of each list and
// record, and what a change makes stale. Pages name what they ask; nothing else knows keys.
import {
  infiniteQueryOptions,
  keepPreviousData,
  queryOptions,
  type QueryClient,
} from '@tanstack/svelte-query';
import {
  api,
  body,
  Problem,
  type JobRequest,
  type Me,
  type Person,
  type ReportRequest,
  type Timing,
  type Values,
  type WhatIfRequest,
} from './api';
import type { paths } from './api.gen';
import { isAdministrator } from './me.svelte';

/** The names under which answers are kept. */
export type Name =
  | 'ahead'
  | 'what if'
  | 'mine'
  | 'alert'
  | 'alerts'
  | 'archive'
  | 'calendar'
  | 'calendars'
  | 'choices'
  | 'compare'
  | 'copy'
  | 'day'
  | 'deliveries'
  | 'destinations'
  | 'destination pages'
  | 'feed'
  | 'forecast'
  | 'groups'
  | 'job'
  | 'jobs'
  | 'link'
  | 'log'
  | 'me'
  | 'people'
  | 'posts'
  | 'protocols'
  | 'drivers'
  | 'queue'
  | 'freezes'
  | 'events'
  | 'senders'
  | 'subscriptions'
  | 'removed'
  | 'removing'
  | 'renaming'
  | 'former names'
  | 'in role'
  | 'receives'
  | 'report'
  | 'reports'
  | 'run'
  | 'runs'
  | 'settings'
  | 'sign-ins'
  | 'source pages'
  | 'sources'
  | 'state'
  | 'tables'
  | 'values'
  | 'waiting'
  | 'version'
  | 'versions'
  | 'when'
  | 'whom'
  | 'why'
  | 'zones';

const named = (...key: [Name, ...unknown[]]) => key;

type DeliveriesQuery = NonNullable<paths['/api/deliveries']['get']['parameters']['query']>;
type RunsQuery = NonNullable<paths['/api/runs']['get']['parameters']['query']>;

/** Several words in one parameter, with commas between them. */
const commas = { querySerializer: { array: { style: 'form', explode: false } } } as const;

/** The questions, each with what it depends on. */
export const asks = {
  me: () =>
    queryOptions({
      queryKey: named('me'),
      queryFn: () => body(api.GET('/api/session')),
      staleTime: 60_000,
    }),
  day: (zone: string) =>
    queryOptions({
      queryKey: named('day', zone),
      queryFn: () => body(api.GET('/api/day', { params: { query: { zone } } })),
      refetchInterval: 30_000, // its now moves
    }),
  version: () =>
    queryOptions({
      queryKey: named('version'),
      queryFn: () => body(api.GET('/api/version')),
      staleTime: Infinity, // it changes when the line to the service breaks, which makes everything stale
    }),
  state: () =>
    queryOptions({
      queryKey: named('state'),
      queryFn: () => body(api.GET('/api/state')),
      refetchInterval: 30_000,
    }),
  alerts: () =>
    queryOptions({
      queryKey: named('alerts'),
      queryFn: () => body(api.GET('/api/alerts', { params: { query: { state: ['open'] } } })),
    }),
  alert: (id: number) =>
    queryOptions({
      queryKey: named('alert', id),
      queryFn: () => body(api.GET('/api/alerts/{alert}', { params: { path: { alert: id } } })),
    }),

  /** What a job made and what is kept of it, the newest first, some at a time. */
  archive: (job: string) =>
    infiniteQueryOptions({
      queryKey: named('archive', job),
      queryFn: ({ pageParam }) =>
        body(
          api.GET('/api/jobs/{job}/archive', {
            params: { path: { job }, query: { before: pageParam || undefined } },
          }),
        ),
      initialPageParam: '',
      getNextPageParam: (last) => (last.more ? last.runs.at(-1)?.run : undefined),
    }),
  /** What was removed and can be brought back. */
  removed: () =>
    queryOptions({ queryKey: named('removed'), queryFn: () => body(api.GET('/api/records/removed')) }),
  /** What the removal of some records would mean. */
  removing: (records: { kind: string; name: string }[]) =>
    queryOptions({
      queryKey: named('removing', records),
      queryFn: () => body(api.POST('/api/records/remove', { body: { records, try: true } })),
      placeholderData: keepPreviousData,
      gcTime: 0,
      staleTime: 0,
    }),
  /** What would be rewritten for another name. */
  renaming: (kind: string, name: string, to: string, enabled: boolean) =>
    queryOptions({
      queryKey: named('renaming', kind, name, to),
      queryFn: () => body(api.POST('/api/record/rename', { body: { kind, name, to, try: true } })),
      enabled,
      placeholderData: keepPreviousData,
      gcTime: 0,
      retry: false,
    }),
  formerNames: (kind: string, name: string) =>
    queryOptions({
      queryKey: named('former names', kind, name),
      queryFn: () => body(api.GET('/api/record/names', { params: { query: { kind, name } } })),
    }),
  queue: () =>
    queryOptions({
      queryKey: named('queue'),
      queryFn: () => body(api.GET('/api/queue')),
      refetchInterval: 15_000, // what waits for its time begins without a word
    }),
  freezes: () => queryOptions({ queryKey: named('freezes'), queryFn: () => body(api.GET('/api/freezes')) }),
  /** What was reported, of a type and by a sender, or all, the newest first. */
  events: (type: string, sender: string) =>
    infiniteQueryOptions({
      queryKey: named('events', type, sender),
      queryFn: ({ pageParam }) =>
        body(
          api.GET('/api/events', {
            params: {
              query: { type: type || undefined, sender: sender || undefined, before: pageParam || undefined },
            },
          }),
        ),
      initialPageParam: 0,
      getNextPageParam: (last) => (last.length === 100 ? last.at(-1)?.number : undefined),
      refetchInterval: 15_000, // an event that starts nothing comes without a word
    }),
  /** What jobs wait for beside the time; of one job, or of all. */
  waiting: (job?: string) =>
    queryOptions({
      queryKey: named('waiting', job ?? ''),
      queryFn: () => body(api.GET('/api/waiting', { params: { query: { job } } })),
      refetchInterval: 15_000, // what is looked at goes on without a word
    }),
  senders: () =>
    queryOptions({
      queryKey: named('senders'),
      queryFn: () => body(api.GET('/api/senders')),
      refetchInterval: 15_000,
    }),
  subscriptions: () =>
    queryOptions({
      queryKey: named('subscriptions'),
      queryFn: () => body(api.GET('/api/subscriptions')),
      refetchInterval: 15_000,
    }),
  drivers: () =>
    queryOptions({
      queryKey: named('drivers'),
      queryFn: () => body(api.GET('/api/drivers')),
      staleTime: Infinity,
    }),

  jobs: () => queryOptions({ queryKey: named('jobs'), queryFn: () => body(api.GET('/api/jobs')) }),
  job: (name: string) =>
    queryOptions({
      queryKey: named('job', name),
      queryFn: () => body(api.GET('/api/jobs/{job}', { params: { path: { job: name } } })),
    }),
  runsOf: (job: string) =>
    queryOptions({
      queryKey: named('runs', 'of', job),
      queryFn: () => body(api.GET('/api/runs', { params: { query: { job, limit: 15 } } })),
    }),
  why: (job: string) =>
    queryOptions({
      queryKey: named('why', job),
      queryFn: () => body(api.GET('/api/jobs/{job}/why', { params: { path: { job }, query: {} } })),
    }),
  /** The values that a job asks for; of one that is being written, when a definition is given. */
  values: (job: string, definition?: JobRequest, trigger?: number, given: Values = {}, date = '') =>
    queryOptions({
      queryKey: named('values', job, definition, trigger, given, date),
      queryFn: () =>
        body(
          api.POST('/api/jobs/{job}/values', {
            params: { path: { job } },
            body: {
              values: given,
              ...(definition && { definition }),
              ...(trigger !== undefined && { trigger }),
              ...(date && { date }),
            },
          }),
        ),
      placeholderData: keepPreviousData,
    }),
  /** Asked when somebody wants it: it looks at sources. */
  ahead: (job: string) =>
    queryOptions({
      queryKey: named('ahead', job),
      queryFn: () => body(api.GET('/api/jobs/{job}/ahead', { params: { path: { job } } })),
      enabled: false,
    }),

  runs: (query: RunsQuery) =>
    queryOptions({
      queryKey: named('runs', query),
      queryFn: () => body(api.GET('/api/runs', { params: { query }, ...commas })),
      placeholderData: keepPreviousData,
    }),
  run: (id: string) =>
    queryOptions({
      queryKey: named('run', id),
      queryFn: () => body(api.GET('/api/runs/{run}', { params: { path: { run: id } } })),
    }),
  /** The log comes in pages; a long one is shown as far as somebody reads on. */
  log: (id: string, pages: number) =>
    queryOptions({
      queryKey: named('log', id, pages),
      placeholderData: keepPreviousData,
      queryFn: async () => {
        const page = (after: number) =>
          body(api.GET('/api/runs/{run}/log', { params: { path: { run: id }, query: { after } } }));
        let lines = await page(0);
        let more = lines.length > 0;
        for (let n = 1; more && n < pages; n++) {
          const next = await page(lines.at(-1)?.n ?? 0);
          lines = [...lines, ...next];
          more = next.length > 0;
        }
        return { lines, more };
      },
    }),
  compare: (run: string, earlier: string) =>
    queryOptions({
      queryKey: named('compare', run, earlier),
      queryFn: () =>
        body(
          api.GET('/api/runs/{run}/compare', {
            params: { path: { run }, query: earlier ? { with: earlier } : {} },
          }),
        ),
    }),
  deliveries: (query: DeliveriesQuery) =>
    queryOptions({
      queryKey: named('deliveries', query),
      queryFn: () => body(api.GET('/api/deliveries', { params: { query }, ...commas })),
      placeholderData: keepPreviousData,
    }),
  link: (token: string) =>
    queryOptions({
      queryKey: named('link', token),
      staleTime: Infinity, // looking again would be another following
      queryFn: () => body(api.GET('/api/links/{token}', { params: { path: { token } } })),
    }),

  reports: () => queryOptions({ queryKey: named('reports'), queryFn: () => body(api.GET('/api/reports')) }),
  report: (name: string) =>
    queryOptions({
      queryKey: named('report', name),
      queryFn: () => body(api.GET('/api/reports/{report}', { params: { path: { report: name } } })),
    }),
  versions: (kind: 'job' | 'report', name: string) =>
    queryOptions({
      queryKey: named('versions', kind, name),
      enabled: name !== '',
      queryFn: () =>
        kind === 'job'
          ? body(api.GET('/api/jobs/{job}/versions', { params: { path: { job: name } } }))
          : body(api.GET('/api/reports/{report}/versions', { params: { path: { report: name } } })),
    }),
  choices: (report: string, values: Values) =>
    queryOptions({
      queryKey: named('choices', report, values),
      placeholderData: keepPreviousData,
      queryFn: () =>
        body(api.POST('/api/reports/{report}/choices', { params: { path: { report } }, body: { values } })),
    }),

  /** The same of a report that is being written. */
  choicesOf: (report: string, definition: ReportRequest, values: Values) =>
    queryOptions({
      queryKey: named('choices', report, definition, values),
      placeholderData: keepPreviousData,
      enabled: definition.source !== '' && (definition.parameters ?? []).length > 0,
      queryFn: () =>
        body(
          api.POST('/api/reports/{report}/choices', {
            params: { path: { report } },
            body: { definition, values },
          }),
        ),
    }),

  calendars: () =>
    queryOptions({ queryKey: named('calendars'), queryFn: () => body(api.GET('/api/calendars')) }),
  /** Null when there is none of the name and an administrator looks, who may make it. */
  calendar: (name: string) =>
    queryOptions({
      queryKey: named('calendar', name),
      queryFn: async () => {
        try {
          return await body(api.GET('/api/calendars/{calendar}', { params: { path: { calendar: name } } }));
        } catch (error) {
          if (error instanceof Problem && error.status === 404 && isAdministrator()) return null;
          throw error;
        }
      },
    }),
  when: (timing: Timing, zone: string, calendars: string[], caret: number) =>
    queryOptions({
      queryKey: named('when', timing, zone, calendars, caret),
      queryFn: () => body(api.POST('/api/when', { body: { ...timing, zone, calendars, rings: 6, caret } })),
      placeholderData: keepPreviousData,
    }),
  zones: () =>
    queryOptions({
      queryKey: named('zones'),
      staleTime: Infinity,
      queryFn: () => body(api.GET('/api/zones')),
    }),
  /** One day of the forecast, between two instants. */
  forecast: (date: string, zone: string, job: string, from: () => Date, to: Date) =>
    queryOptions({
      queryKey: named('forecast', date, job),
      queryFn: () =>
        body(
          api.GET('/api/forecast', {
            params: {
              query: {
                from: from().toISOString(),
                to: to.toISOString(),
                zone,
                limit: 3000,
                ...(job && { job }),
              },
            },
          }),
        ),
    }),
  feed: () => queryOptions({ queryKey: named('feed'), queryFn: () => body(api.GET('/api/session/feed')) }),

  sources: () => queryOptions({ queryKey: named('sources'), queryFn: () => body(api.GET('/api/sources')) }),
  sourcePages: () =>
    queryOptions({
      queryKey: named('source pages'),
      queryFn: async () => {
        const sources = await body(api.GET('/api/sources'));
        return Promise.all(
          sources.map(async (s) => ({
            ...s,
            identities: await body(
              api.GET('/api/sources/{name}/identities', { params: { path: { name: s.name } } }),
            ),
          })),
        );
      },
    }),
  /** The tables that a source has for queries; none while no source is named. */
  tables: (source: string, identity: string) =>
    queryOptions({
      queryKey: named('tables', source, identity),
      enabled: source !== '',
      staleTime: 300_000,
      queryFn: () =>
        body(
          api.GET('/api/sources/{name}/tables', {
            params: { path: { name: source }, query: identity ? { identity } : {} },
          }),
        ),
    }),
  destinations: () =>
    queryOptions({ queryKey: named('destinations'), queryFn: () => body(api.GET('/api/destinations')) }),
  destinationPages: () =>
    queryOptions({
      queryKey: named('destination pages'),
      queryFn: async () => {
        const all = await body(api.GET('/api/destinations'));
        return Promise.all(
          all.map((d) => body(api.GET('/api/destinations/{name}', { params: { path: { name: d.name } } }))),
        );
      },
    }),
  protocols: () =>
    queryOptions({
      queryKey: named('protocols'),
      queryFn: () => body(api.GET('/api/protocols')),
      staleTime: Infinity,
    }),

  people: () => queryOptions({ queryKey: named('people'), queryFn: () => body(api.GET('/api/people')) }),
  groups: () => queryOptions({ queryKey: named('groups'), queryFn: () => body(api.GET('/api/groups')) }),
  posts: () => queryOptions({ queryKey: named('posts'), queryFn: () => body(api.GET('/api/posts')) }),
  mine: () => queryOptions({ queryKey: named('mine'), queryFn: () => body(api.GET('/api/mine')) }),
  receives: (login: string) =>
    queryOptions({
      queryKey: named('receives', login),
      enabled: Boolean(login),
      queryFn: () => body(api.GET('/api/people/{login}/receives', { params: { path: { login } } })),
    }),
  /** What follows when a person is given a role. */
  inRole: (login: string, role: Person['role']) =>
    queryOptions({
      queryKey: named('in role', login, role),
      enabled: Boolean(login),
      queryFn: () => body(api.GET('/api/people/{login}/roles/{role}', { params: { path: { login, role } } })),
    }),
  /** What a change would do, as its JSON says it. */
  whatIf: (asked: string) =>
    queryOptions({
      queryKey: named('what if', asked),
      enabled: asked !== '',
      queryFn: ({ signal }) =>
        body(api.POST('/api/what-if', { body: JSON.parse(asked) as WhatIfRequest, signal })),
      placeholderData: keepPreviousData,
      retry: false,
    }),
  whom: (text: string) =>
    queryOptions({
      queryKey: named('whom', text),
      enabled: text.trim() !== '',
      queryFn: () => body(api.POST('/api/recipients', { body: { to: [text] } })),
      placeholderData: keepPreviousData,
    }),
  signIns: (login: string) =>
    queryOptions({
      queryKey: named('sign-ins', login),
      queryFn: () => body(api.GET('/api/sign-ins', { params: { query: { login } } })),
    }),

  /** One of the settings of the whole installation, by its last word in the API. */
  setting: <T>(key: string, call: () => Promise<T>) =>
    queryOptions({ queryKey: named('settings', key), queryFn: call }),
  copy: () => queryOptions({ queryKey: named('copy'), queryFn: () => body(api.GET('/api/settings/copy')) }),
};

const runs: Name[] = ['archive', 'day', 'runs', 'run', 'log', 'jobs', 'job', 'why', 'deliveries'];

/** What a change makes stale, by what was changed. */
const changes = {
  alert: ['mine', 'day', 'alerts', 'alert', 'run', 'state'],
  calendar: ['calendars', 'calendar', 'when', 'day', 'jobs', 'job', 'forecast', 'ahead', 'why'],
  deliveries: ['mine', 'deliveries', 'run', 'runs', 'log', 'day', 'alerts', 'destination pages', 'state'],
  destination: ['destinations', 'destination pages', 'deliveries', 'state'],
  feed: ['feed'],
  group: ['groups', 'whom', 'receives', 'ahead'],
  job: [
    'mine',
    'in role',
    'day',
    'jobs',
    'job',
    'why',
    'forecast',
    'ahead',
    'runs',
    'versions',
    'values',
    'waiting',
  ],
  report: ['reports', 'report', 'in role', 'choices', 'versions', 'values', 'ahead'],
  person: ['mine', 'in role', 'people', 'me', 'receives', 'groups', 'posts', 'whom', 'sign-ins'],
  post: ['posts', 'whom', 'receives', 'ahead'],
  queue: ['queue', 'freezes', 'state', 'day', 'forecast', 'runs', 'run', 'why'],
  run: [...runs, 'alerts', 'alert'],
  source: ['sources', 'source pages', 'tables', 'choices', 'state'],
  sender: ['senders', 'events', 'waiting'],
  subscription: ['subscriptions', 'deliveries'],
  settings: ['settings', 'copy', 'state', 'day', 'deliveries', 'when', 'forecast'],
  signIns: ['sign-ins'],
} satisfies Record<string, Name[]>;

async function stale(client: QueryClient, names: readonly Name[]): Promise<void> {
  await Promise.all(names.map((name) => client.invalidateQueries({ queryKey: [name] })));
}

/** Makes stale what a change of somebody here touches. */
export function changed(client: QueryClient, what: keyof typeof changes): Promise<void> {
  return stale(client, changes[what]);
}

/** Makes stale what notices from the service name. */
export function noticed(client: QueryClient, names: readonly Name[]): void {
  void stale(client, names);
}

/** Makes all stale: nobody knows what has changed. */
export function changedAll(client: QueryClient): Promise<void> {
  return client.invalidateQueries();
}

/** Notes who has signed in again above their work. */
export function signedInAgain(client: QueryClient, me: Me): void {
  client.setQueryData(asks.me().queryKey, me);
}

/** Forgets what somebody else has left behind; who is signed in is being watched. */
export function signedIn(client: QueryClient, me: Me): void {
  client.removeQueries({ predicate: (q) => q.queryKey[0] !== asks.me().queryKey[0] });
  client.setQueryData(asks.me().queryKey, me);
}
