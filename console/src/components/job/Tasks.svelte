<script lang="ts">
  // What a job does, task by task, and what its next ring would do.
  import { createQuery } from '@tanstack/svelte-query';
  import type { JobPage } from '../../lib/api';
  import { asks } from '../../lib/queries';
  import { does, place } from '../../lib/tasks';
  import AheadView from '../AheadView.svelte';
  import Trouble from '../Trouble.svelte';

  const { job, name, may }: { job: JobPage; name: string; may: boolean } = $props();
  // It asks sources for lists, so only when somebody wants to know.
  const ahead = createQuery(() => asks.ahead(name));
</script>

<section class="panel px-3.5 py-2.5">
  <div class="flex items-baseline gap-3">
    <h2>What it does</h2>
    <span class="flex-1"></span>
    {#if may}<button
        class="btn"
        disabled={ahead.isFetching}
        aria-expanded={Boolean(ahead.data)}
        onclick={() => void ahead.refetch()}
        >{ahead.isFetching ? 'Looking …' : 'See what the next ring will do'}</button
      >{/if}
  </div>
  {#if ahead.isError}<Trouble error={ahead.error} />{/if}
  {#if ahead.data}<div class="panel bg-base-200 mb-2 px-3.5 py-2.5">
      <AheadView ahead={ahead.data} />
    </div>{/if}
  <ol class="flex flex-col gap-2">
    {#each job.tasks as t, i (t.name)}
      <li class="flex gap-3">
        <span class="soft mono">{i + 1}</span>
        <div class="min-w-0">
          <b>{t.name}</b>: {does(t, job.read_as)[0]}
          <div class="mono break-words whitespace-pre-line">{does(t, job.read_as)[1]}</div>
          {#if place(t, i)}<div class="soft text-[13px]">{place(t, i)}</div>{/if}
        </div>
      </li>
    {/each}
  </ol>
</section>
