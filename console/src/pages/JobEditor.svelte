<script lang="ts">
  // Makes a job, or changes one.
  import { createQuery } from '@tanstack/svelte-query';
  import JobSheet from '../components/editing/JobSheet.svelte';
  import Trouble from '../components/Trouble.svelte';
  import type { Values } from '../lib/api';
  import { asSaved, freshJob } from '../lib/editing/job';
  import { me, myZone } from '../lib/me.svelte';
  import { param, searched } from '../lib/param';
  import { asks } from '../lib/queries';
  import { route } from '../router';

  const name = $derived(route.params.job === undefined ? '' : param(route.params.job));
  const job = createQuery(() => ({
    ...asks.job(name),
    enabled: name !== '',
    staleTime: Infinity,
    gcTime: 0,
  }));
  const places = createQuery(() => asks.destinations());

  /** What somebody looked at, and schedules. */
  function looked(): Values {
    try {
      const found: unknown = JSON.parse(searched('values') ?? '{}');
      return typeof found === 'object' && found ? (found as Values) : {};
    } catch {
      return {};
    }
  }
  const mail = $derived(places.data?.find((d) => d.protocol === 'smtp')?.name ?? '');
</script>

<svelte:head><title>{name || 'New job'} · Iron Bell</title></svelte:head>

{#if job.isError}<Trouble error={job.error} />{/if}
{#if places.isError}<Trouble error={places.error} />{/if}
{#if places.data && (name === '' || job.data) && me()}
  {#key name}
    <JobSheet
      record={name}
      base={job.data
        ? asSaved('JobRequest', job.data)
        : freshJob(myZone(), mail, searched('report') ?? '', looked())}
      began={job.data?.revision ?? 0}
      places={places.data}
    />
  {/key}
{:else if !job.isError}<p class="soft" role="status">Loading the job …</p>{/if}
