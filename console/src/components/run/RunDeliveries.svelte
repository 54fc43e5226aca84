<script lang="ts">
  // What of a run went where, with what can be done about it: send again what failed, and correct
  // what was wrong.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type RunPage } from '../../lib/api';
  import { opened } from '../../lib/opened';
  import { changed } from '../../lib/queries';
  import { navigate } from '../../router';
  import DeliveryTable from '../DeliveryTable.svelte';
  import Trouble from '../Trouble.svelte';

  const { run }: { run: RunPage } = $props();
  const client = useQueryClient();
  const resend = createMutation(() => ({
    meta: { says: 'What failed is sent again.' },
    mutationFn: () => body(api.POST('/api/runs/{run}/resend', { params: { path: { run: run.id } } })),
    onSuccess: () => changed(client, 'run'),
  }));
  let correcting = $state(false);
  let wrong = $state('');
  const correct = createMutation(() => ({
    meta: { says: 'A run that corrects this one has begun.' },
    mutationFn: () =>
      body(
        api.POST('/api/runs/{run}/again', {
          params: { path: { run: run.id } },
          body: { whole: true, correction: wrong },
        }),
      ),
    onSuccess: async (made) => {
      correcting = false;
      await changed(client, 'run');
      navigate('/runs/:run', { params: { run: made.id } });
    },
  }));
  const counts = $derived(run.delivery_counts ?? {});
  const failedDeliveries = $derived((counts['failed'] ?? 0) + (counts['bounced'] ?? 0));
  const allDeliveries = $derived(Object.values(counts).reduce((sum, n) => sum + n, 0));
  const sent = $derived(counts['sent'] ?? 0);
  const ended = $derived(Boolean(run.ended_at));
</script>

<section>
  <div class="mb-2 flex flex-wrap items-baseline gap-3">
    <h2>
      Deliveries: {sent.toLocaleString('en-GB')} of {allDeliveries.toLocaleString('en-GB')} sent{#if run.deliveries.length < allDeliveries}<span
          class="soft ml-1"
          >{run.deliveries.length.toLocaleString('en-GB')} here, those that went wrong first</span
        >{/if}
    </h2>
    <span class="flex-1"></span>
    {#if failedDeliveries > 1}<button class="btn" disabled={resend.isPending} onclick={() => resend.mutate()}
        >Send the {failedDeliveries} that failed again</button
      >{/if}
    {#if ended && sent > 0}<button class="btn" onclick={() => (correcting = !correcting)}
        >A wrong report went out …</button
      >{/if}
  </div>
  {#if resend.isError}<Trouble error={resend.error} />{/if}
  {#if correcting}
    <form
      {@attach opened(() => (correcting = false))}
      class="panel flex flex-wrap items-end gap-3 px-3.5 py-3"
      onsubmit={(e) => {
        e.preventDefault();
        correct.mutate();
      }}
    >
      <label class="flex min-w-0 flex-1 flex-col gap-1"
        >What was wrong? Those who got it read this.
        <input class="input w-full" required maxlength="2000" bind:value={wrong} /></label
      >
      <button class="btn btn-primary" disabled={correct.isPending}
        >Make it anew and send it to the {sent} who have it</button
      >
      <p class="soft w-full">
        The job runs again for the same date; the mail is marked as a correction{#if run.links?.some((l) => !l.withdrawn_at)},
          and the links of this run are withdrawn{/if}.
      </p>
    </form>
    {#if correct.isError}<Trouble error={correct.error} />{/if}
  {/if}
  <DeliveryTable deliveries={run.deliveries} zone={run.zone} ofRun />
</section>
