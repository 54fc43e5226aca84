import { createRouter } from 'sv-router';
import Job from './pages/Job.svelte';
import Jobs from './pages/Jobs.svelte';
import Lost from './pages/Lost.svelte';
import Run from './pages/Run.svelte';
import Runs from './pages/Runs.svelte';
import Today from './pages/Today.svelte';

export const { p, navigate, isActive, route } = createRouter({
  '/': Today,
  '/jobs': Jobs,
  '/jobs/:job': Job,
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
  '/people': () => import('./pages/People.svelte'),
  '/l/:token': () => import('./pages/Linked.svelte'),
  '/settings': () => import('./pages/Settings.svelte'),
  '/sources': () => import('./pages/Sources.svelte'),
  '/runs/:run/compare': () => import('./pages/Compare.svelte'),
  '/runs': Runs,
  '/runs/:run': Run,
  '*': Lost,
});
