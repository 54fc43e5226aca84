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
  '/runs': Runs,
  '/runs/:run': Run,
  '*': Lost,
});
