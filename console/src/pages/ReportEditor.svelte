<script lang="ts">
  // Makes a report, or changes one.
  import { createQuery } from '@tanstack/svelte-query';
  import ReportSheet from '../components/editing/ReportSheet.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body } from '../lib/api';
  import { asSaved } from '../lib/editing/job';
  import { freshReport } from '../lib/editing/report';
  import { me } from '../lib/me.svelte';
  import { param } from '../lib/param';
  import { asks } from '../lib/queries';
  import { route } from '../router';

  const name = $derived(route.params.report === undefined ? '' : param(route.params.report));
  const load = (report: string) =>
    report ? body(api.GET('/api/reports/{report}', { params: { path: { report } } })) : null;
  const sources = createQuery(() => asks.sources());
  const first = $derived(sources.data?.find((s) => s.protocol === 'postgres') ?? sources.data?.[0]);
</script>

<svelte:head><title>{name || 'New report'} · Iron Bell</title></svelte:head>

{#if sources.isError}<Trouble error={sources.error} />{/if}
{#await load(name)}
  <p class="soft" role="status">Loading the report …</p>
{:then report}
  {#if sources.data && me()}
    <ReportSheet
      record={report?.name ?? ''}
      base={report ? asSaved('ReportRequest', report) : freshReport(first?.name ?? '')}
      began={report?.revision ?? 0}
      sources={sources.data}
    />
  {/if}
{:catch error}<Trouble {error} />{/await}
