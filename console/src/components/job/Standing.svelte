<script lang="ts">
  // How a job stands: its last run, its next rings, and why it rang or did not.
  import { createQuery } from '@tanstack/svelte-query';
  import type { JobPage } from '../../lib/api';
  import { now } from '../../lib/now.svelte';
  import { asks } from '../../lib/queries';
  import { distance, length } from '../../lib/time';
  import { p } from '../../router';
  import StateMark from '../StateMark.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { job, name }: { job: JobPage; name: string } = $props();
  const why = createQuery(() => asks.why(name));
</script>

<section class="panel bg-base-200 px-3.5 py-2.5">
  <h2>How it stands</h2>
  {#if job.last}
    <p>
      Last <a href={p('/runs/:run', { params: { run: job.last.id } })}><StateMark state={job.last.state} /></a
      >, due
      <ZonedTime at={job.last.due} zone={job.zone} />: {job.last.reason}.
      {#if job.usual_seconds !== undefined}It usually takes {length(job.usual_seconds)}.{/if}
    </p>
  {:else}<p>It has not run yet.</p>{/if}
  <p class="soft text-[13px]">Owner {job.owner}, version {job.version}.</p>
</section>
<section class="panel px-3.5 py-2.5">
  <h2>Next rings</h2>
  {#each job.upcoming.slice(0, 8) as at (at)}
    <div class="flex justify-between">
      <ZonedTime {at} zone={job.zone} /><span class="soft">{distance(at, now.ms)}</span>
    </div>
  {:else}<p class="soft">
      {!job.on
        ? 'None while it is off.'
        : job.triggers?.some((t) => t.rule === undefined)
          ? 'When what it waits for has happened.'
          : 'None in the next 90 days.'}
    </p>{/each}
</section>
<section class="panel px-3.5 py-2.5">
  <h2>Why</h2>
  {#each why.data?.reasons.filter((r) => r.what !== 'coming').slice(0, 8) ?? [] as r (r.at + r.sentence)}
    <p class="border-base-300 border-b py-1 last:border-0">
      {#if r.run}<a href={p('/runs/:run', { params: { run: r.run } })}
          ><StateMark state={r.state ?? 'waiting'} /></a
        >{/if}
      {r.sentence}
    </p>
  {:else}<p class="soft">Nothing has been decided yet.</p>{/each}
</section>
