<script lang="ts">
  // What a job does when things go wrong.
  import type { JobPage } from '../../lib/api';

  const { job }: { job: JobPage } = $props();
  const outage = { once: 'run once', each: 'run each', none: 'pass them over' };
  const blank = {
    hold: 'hold it, send nothing',
    send: 'send it with a note',
    retry: 'try it again',
    fail: 'take it for a failure',
  };
  const unknown = { ask: 'ask, never send twice', resend: 'send again' };
  const overlap = { wait: 'wait for it', 'pass over': 'pass over the ring', together: 'run together' };
</script>

{#snippet row(label: string, text: string)}
  <dt class="soft">{label}</dt>
  <dd class="border-base-300 border-b pb-1">{text}</dd>
{/snippet}

<section class="panel px-3.5 py-2.5">
  <h2>When things go wrong</h2>
  <dl class="grid grid-cols-[12rem_1fr] gap-x-3 gap-y-1">
    {@render row(
      'If it fails',
      job.retry?.times
        ? `${job.retry.times} more tries, ${job.retry.wait ?? ''} apart${job.retry.growth ? `, each wait ${job.retry.growth} times the last` : ''}${job.retry.until ? `, until ${job.retry.until}` : ''}; then ${job.owner} is told`
        : `${job.owner} is told`,
    )}
    {@render row('If nothing was found', blank[job.if_blank ?? 'hold'])}
    {#if job.deadline?.at || job.deadline?.within}{@render row(
        'Must have arrived',
        job.deadline.at ? `by ${job.deadline.at}` : `${job.deadline.within ?? ''} after it is due`,
      )}{/if}
    {@render row('After an outage', outage[job.after_outage ?? 'once'])}
    {@render row('If the last run still works', overlap[job.overlap ?? 'wait'])}
    {@render row('If an answer is lost', unknown[job.if_unknown ?? 'ask'])}
  </dl>
</section>
