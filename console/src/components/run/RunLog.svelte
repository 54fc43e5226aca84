<script lang="ts">
  // What happened in a run, line by line.
  import { createQuery } from '@tanstack/svelte-query';
  import type { RunPage } from '../../lib/api';
  import { asks } from '../../lib/queries';
  import { clock } from '../../lib/time';

  const { run }: { run: RunPage } = $props();
  let pages = $state(2);
  const log = createQuery(() => asks.log(run.id, pages));
</script>

<section>
  <h2>Log</h2>
  <div class="panel mono px-3 py-2 leading-relaxed">
    {#each log.data?.lines ?? [] as l (l.n)}
      <div class="flex gap-3">
        <span class="soft whitespace-nowrap">{clock(l.at, run.zone, true)}</span>
        <span
          class="break-words {l.level === 'error'
            ? 'text-error'
            : l.level === 'warn'
              ? 'text-warning'
              : ''} min-w-0"
          >{#if l.state}<b>{l.state}</b>:{/if}
          {#if l.task}{l.task}:{/if}
          {l.text}</span
        >
      </div>
    {:else}<span class="soft">Nothing is logged yet.</span>{/each}
    {#if log.data?.more && (log.data.lines.length ?? 0) >= 2000}<button
        class="btn mt-2"
        disabled={log.isFetching}
        onclick={() => (pages += 2)}>Read on</button
      >{/if}
  </div>
</section>
