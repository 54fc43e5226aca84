<script lang="ts">
  // When a job rings.
  import type { JobPage } from '../../lib/api';
  import { zoneWord } from '../../lib/time';
  import { p } from '../../router';
  import ZonedTime from '../ZonedTime.svelte';

  const { job, may }: { job: JobPage; may: boolean } = $props();
</script>

<section class="panel px-3.5 py-2.5">
  <div class="flex justify-between">
    <h2>When, in {zoneWord(job.zone)}</h2>
    {#if may}<a class="text-[13px] underline" href={p('/jobs/:job/change', { params: { job: job.name } })}
        >Change</a
      >{/if}
  </div>
  {#each job.triggers ?? [] as t (t.id)}
    <div class="border-base-300 flex flex-wrap items-baseline gap-x-3.5 border-b py-1">
      <span class="first-letter:uppercase">{t.reading}</span>
      {#if t.rule !== t.reading}<span class="mono soft">{t.rule}</span>{/if}
      <span class="flex-1"></span>
      {#if t.next_due}<span class="soft">next <ZonedTime at={t.next_due} zone={job.zone} /></span>{/if}
      {#if t.values}
        <div class="mono w-full pl-3">
          {#each Object.entries(t.values) as [key, value] (key)}<div>{key} = {value}</div>{/each}
        </div>
      {/if}
    </div>
  {:else}
    <p>On demand only: it has no trigger.</p>
  {/each}
  {#if job.calendars?.length}
    <p class="soft pt-1 text-[13px]">
      Open days by {#each job.calendars as c, i (c)}{i ? ' and ' : ''}<a
          href={p('/calendars/:calendar', { params: { calendar: c } })}>{c}</a
        >{/each}.
    </p>
  {/if}
</section>
