<script lang="ts">
  // Makes a job, or changes one.
  import { createQuery } from '@tanstack/svelte-query';
  import JobSheet from '../components/editing/JobSheet.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body } from '../lib/api';
  import { asSaved, freshJob } from '../lib/editing/job';
  import { me, myZone } from '../lib/me.svelte';
  import { param, searched, valuesIn } from '../lib/param';
  import { asks } from '../lib/queries';
  import { route } from '../router';

  const name = $derived(route.params.job === undefined ? '' : param(route.params.job));
  /** The job as it is now, not as some page has it still. */
  const load = (job: string) =>
    job ? body(api.GET('/api/jobs/{job}', { params: { path: { job } } })) : null;
  const places = createQuery(() => asks.destinations());

  const mail = $derived(places.data?.find((d) => d.protocol === 'smtp')?.name ?? '');
</script>

<svelte:head><title>{name || 'New job'} · Iron Bell</title></svelte:head>

{#if places.isError}<Trouble error={places.error} />{/if}
{#await load(name)}
  <p class="soft" role="status">Loading the job …</p>
{:then job}
  {#if places.data && me()}
    <JobSheet
      record={job?.name ?? ''}
      base={job
        ? asSaved('JobRequest', job)
        : freshJob(myZone(), mail, searched('report') ?? '', valuesIn(searched('values')))}
      began={job?.revision ?? 0}
      places={places.data}
    />
  {/if}
{:catch error}<Trouble {error} />{/await}
