<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import RunTable from '../components/RunTable.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { asks } from '../lib/queries';

  const states = ['waiting', 'running', 'delivering', 'done', 'partly', 'blank', 'failed'] as const;
  type State = (typeof states)[number];
  const chosen = $derived(
    String(searchParams.get('state') ?? '')
      .split(',')
      .filter((s): s is State => (states as readonly string[]).includes(s)),
  );
  const before = $derived(String(searchParams.get('before') ?? ''));
  const limit = 50;
  const list = createQuery(() =>
    asks.runs({ limit, ...(chosen.length && { state: chosen }), ...(before && { before }) }),
  );

  function toggle(s: State) {
    const next = chosen.includes(s) ? chosen.filter((c) => c !== s) : [...chosen, s];
    searchParams.delete('before', undefined, { replace: true });
    if (next.length) searchParams.set('state', next.join(','), { replace: true });
    else searchParams.delete('state', undefined, { replace: true });
  }
</script>

<svelte:head><title>Runs · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-2">
  <h1 class="mr-2">Runs</h1>
  {#each states as s (s)}
    <button class="chip" aria-pressed={chosen.includes(s)} onclick={() => toggle(s)}>{s}</button>
  {/each}
</div>
{#if list.isError}<Trouble error={list.error} />{/if}
{#if list.data?.length}
  <RunTable runs={list.data} />
  <div class="flex gap-2">
    {#if before}<button class="btn" onclick={() => searchParams.delete('before')}>Newest</button>{/if}
    {#if list.data.length === limit}
      <button class="btn" onclick={() => searchParams.set('before', list.data?.at(-1)?.id ?? '')}
        >Older</button
      >
    {/if}
  </div>
{:else if list.data}
  <p class="soft">
    {chosen.length
      ? 'No run is in these states.'
      : 'Nothing has run yet. Open a job and ring it now to see one.'}
  </p>
{/if}
