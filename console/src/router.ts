import { createRouter } from 'sv-router';
import { arrived, begins } from './lib/coming.svelte';
import Job from './pages/Job.svelte';
import Jobs from './pages/Jobs.svelte';
import Lost from './pages/Lost.svelte';
import Run from './pages/Run.svelte';
import Runs from './pages/Runs.svelte';
import Today from './pages/Today.svelte';

const made = createRouter({
  hooks: { beforeLoad: ({ pathname }) => begins(pathname), afterLoad: arrived },
  '/': Today,
  '/jobs': Jobs,
  '/jobs/:job': Job,
  '/jobs/:job/archive': () => import('./pages/Archive.svelte'),
  '/jobs/:job/change': () => import('./pages/JobEditor.svelte'),
  '/new/job': () => import('./pages/JobEditor.svelte'),
  '/forecast': () => import('./pages/Forecast.svelte'),
  '/when': () => import('./pages/When.svelte'),
  '/calendars': () => import('./pages/Calendars.svelte'),
  '/calendars/:calendar': () => import('./pages/Calendar.svelte'),
  '/reports': () => import('./pages/Reports.svelte'),
  '/new/report': () => import('./pages/ReportEditor.svelte'),
  '/reports/:report/change': () => import('./pages/ReportEditor.svelte'),
  '/reports/:report': () => import('./pages/Report.svelte'),
  '/alerts/:alert': () => import('./pages/Alert.svelte'),
  '/deliveries': () => import('./pages/Deliveries.svelte'),
  '/destinations': () => import('./pages/Destinations.svelte'),
  '/mine': () => import('./pages/Mine.svelte'),
  '/people': () => import('./pages/People.svelte'),
  '/l/:token': () => import('./pages/Linked.svelte'),
  '/settings': () => import('./pages/Settings.svelte'),
  '/settings/house': () => import('./pages/House.svelte'),
  '/queue': () => import('./pages/Queue.svelte'),
  '/events': () => import('./pages/Events.svelte'),
  '/sources': () => import('./pages/Sources.svelte'),
  '/runs/:run/compare': () => import('./pages/Compare.svelte'),
  '/runs': Runs,
  '/runs/:run': Run,
  '*': Lost,
});

/** Names stand in addresses as parts of them, whatever letters they have; the router pastes them as they are. */
const asPart = (value: unknown) => encodeURIComponent(String(value));
function encoded<T>(options: T): T {
  const params = (options as { params?: Record<string, unknown> } | undefined)?.params;
  if (!params) return options;
  return { ...options, params: Object.fromEntries(Object.entries(params).map(([k, v]) => [k, asPart(v)])) };
}

export const { isActive, route } = made;
// Their types are those of the router; only what is pasted is changed.
function encoding<F>(call: F): F {
  const loose = call as (...args: unknown[]) => unknown;
  return ((...args: unknown[]) => loose(...args.map((a) => encoded(a)))) as F;
}
export const p = encoding(made.p);
export const navigate = encoding(made.navigate);
