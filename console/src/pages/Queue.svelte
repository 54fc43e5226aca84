<script lang="ts">
  // What works and what waits, and why; how much may work at once; what is frozen.
  import { createQuery } from '@tanstack/svelte-query';
  import Freezes from '../components/queue/Freezes.svelte';
  import Limits from '../components/queue/Limits.svelte';
  import QueueLines from '../components/queue/QueueLines.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { asks } from '../lib/queries';

  const queue = createQuery(() => asks.queue());
</script>

<svelte:head><title>Queue · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Queue</h1>
  <span class="soft">What works and what waits, on all nodes; how much may, and what is held back.</span>
</div>
{#if queue.isError}<Trouble error={queue.error} />{/if}
{#if queue.data}
  {@const q = queue.data}
  <QueueLines title="Works" lines={q.working} empty="Nothing works at the moment." />
  <QueueLines
    title="Waits"
    lines={q.waiting}
    more={q.waits - q.waiting.length}
    empty="Nothing waits: what rings begins at once."
  />
  <div class="grid gap-3.5 xl:grid-cols-2">
    <Freezes />
    {#key JSON.stringify(q.limits)}<Limits limits={q.limits} />{/key}
  </div>
{/if}
