<script lang="ts">
  // By when what jobs wait for is usually there, going by its own past.
  import type { Expected } from '../lib/api';
  import { now } from '../lib/now.svelte';
  import { clock } from '../lib/time';
  import { p } from '../router';
  import ZonedTime from './ZonedTime.svelte';

  const { all, zone }: { all: Expected[]; zone: string } = $props();
  const most = 12;
  const isLate = (e: Expected) => !e.came && e.late !== undefined && now.ms >= new Date(e.late).getTime();
</script>

{#if all.length}
  <section class="panel px-3.5 py-2.5" aria-label="Usually there by then">
    <h2>Usually there by then</h2>
    <p class="soft text-[13px]">
      <span class="text-primary" aria-hidden="true">○</span> on the tapes: what jobs wait for beside the time, by
      the hour at which it was there on such days.
    </p>
    {#each all.slice(0, most) as e, i (i)}
      <div class="border-base-300 grid grid-cols-[11rem_1fr] gap-x-3 border-b py-1 last:border-0">
        <ZonedTime at={e.by} {zone} />
        <span class="break-words"
          ><a href={p('/jobs/:job', { params: { job: String(e.job_id) } })}>{e.job}</a>: {e.reading}
          <span class="soft block text-[13px]">
            {#if e.came}<span class="text-success">Came at {clock(e.came, zone, true)}.</span>
            {:else if isLate(e)}<span class="text-warning"
                ><span aria-hidden="true">▲</span> It has not come, and is {e.why}.</span
              >
            {:else}{e.why[0]?.toUpperCase()}{e.why.slice(1)}.{/if}
          </span>
        </span>
      </div>
    {/each}
    {#if all.length > most}<p class="soft pt-1">{all.length - most} more.</p>{/if}
  </section>
{/if}
