<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import { untrack } from 'svelte';
  import Choose from '../components/records/Choose.svelte';
  import Chosen from '../components/records/Chosen.svelte';
  import SourceNote from '../components/SourceNote.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { asks } from '../lib/queries';
  import { mayBegin, mayChange } from '../lib/me.svelte';
  import { p } from '../router';

  const list = createQuery(() => asks.reports());
  let search = $state(untrack(() => String(searchParams.get('q') ?? '')));
  $effect(() => {
    const q = search;
    untrack(() => {
      if (q) searchParams.set('q', q, { replace: true });
      else searchParams.delete('q', undefined, { replace: true });
    });
  });
  let chosen = $state<string[]>([]);
  const found = $derived(
    (list.data ?? []).filter((r) =>
      [r.name, r.owner, r.source, ...(r.sections ?? []).map((s) => s.sql ?? '')].some((text) =>
        text.toLowerCase().includes(search.toLowerCase()),
      ),
    ),
  );
</script>

<svelte:head><title>Reports · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-3.5">
  <h1>Reports</h1>
  {#if mayBegin()}<a class="btn btn-primary" href={p('/new/report')}>New report</a>{/if}
  <span class="soft">What is asked of which source, and how the answer is laid out.</span>
  <span class="flex-1"></span>
  <label class="contents"
    ><span class="sr-only">Search names, owners, sources and queries</span><input
      class="input input-sm bg-base-100 w-72"
      type="search"
      placeholder="Search names and queries"
      bind:value={search}
    /></label
  >
</div>
{#if list.isError}<Trouble error={list.error} />{/if}
<Chosen kind="report" bind:names={chosen} />
{#if found.length}
  <div class="panel overflow-x-auto">
    <table class="grid-list">
      <thead
        ><tr
          ><th>Report</th><th>Owner</th><th>Read from</th><th>Asks for</th><th>Sections</th><th>Version</th
          ></tr
        ></thead
      >
      <tbody>
        {#each found as r (r.id)}
          <tr>
            <td class="whitespace-nowrap"
              ><Choose name={r.name} may={mayChange(r.owner)} bind:names={chosen} /><a
                class="font-semibold whitespace-normal"
                href={p('/reports/:report', { params: { report: r.name } })}>{r.name}</a
              ></td
            >
            <td>{r.owner}</td>
            <td
              >{r.source}{r.identity ? ` as ${r.identity}` : ''}
              <SourceNote source={r.source} identity={r.identity} /></td
            >
            <td>{(r.parameters ?? []).map((q) => q.label || q.name).join(', ') || 'nothing'}</td>
            <td>{(r.sections ?? []).map((s) => s.name).join(', ')}</td>
            <td class="text-right">{r.version}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{:else if list.data}
  <p>
    {search
      ? 'No report has this in its name, its owner or its queries.'
      : 'There is no report yet. A source of data comes first, then New report.'}
  </p>
{/if}
