<script lang="ts">
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import AlertCard from '../components/AlertCard.svelte';
  import DeliveryTable from '../components/DeliveryTable.svelte';
  import StateMark from '../components/StateMark.svelte';
  import TaskAxis from '../components/TaskAxis.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { api, body } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { now } from '../lib/now.svelte';
  import { size } from '../lib/size';
  import { between, clock, length } from '../lib/time';
  import { navigate, p, route } from '../router';

  const id = $derived(route.params.run ?? '');
  const client = useQueryClient();
  const query = createQuery(() => asks.run(id));
  // The log comes in pages; a long one is shown as far as somebody reads on.
  let pages = $state(2);
  const log = createQuery(() => asks.log(id, pages));
  const run = $derived(query.data);
  const ended = $derived(Boolean(run?.ended_at));
  const steer = createMutation(() => ({
    mutationFn: (act: 'cancel' | 'on' | 'anyway' | 'whole') => {
      const params = { path: { run: id } };
      if (act === 'cancel') return body(api.POST('/api/runs/{run}/cancel', { params }));
      return body(
        api.POST('/api/runs/{run}/again', {
          params,
          body: { whole: act === 'whole', anyway: act === 'anyway' },
        }),
      );
    },
    onSuccess: async (made) => {
      await changed(client, 'run');
      if (made.id !== id) navigate('/runs/:run', { params: { run: made.id } });
    },
  }));
  const resend = createMutation(() => ({
    mutationFn: () => body(api.POST('/api/runs/{run}/resend', { params: { path: { run: id } } })),
    onSuccess: () => changed(client, 'run'),
  }));
  const withdraw = createMutation(() => ({
    mutationFn: () =>
      body(api.POST('/api/runs/{run}/links/withdraw', { params: { path: { run: id } }, body: {} })),
    onSuccess: () => changed(client, 'run'),
  }));
  let correcting = $state(false);
  let wrong = $state('');
  const correct = createMutation(() => ({
    mutationFn: () =>
      body(
        api.POST('/api/runs/{run}/again', {
          params: { path: { run: id } },
          body: { whole: true, correction: wrong },
        }),
      ),
    onSuccess: async (made) => {
      correcting = false;
      await changed(client, 'run');
      navigate('/runs/:run', { params: { run: made.id } });
    },
  }));
  const counts = $derived(run?.delivery_counts ?? {});
  const failedDeliveries = $derived((counts['failed'] ?? 0) + (counts['bounced'] ?? 0));
  const allDeliveries = $derived(Object.values(counts).reduce((sum, n) => sum + n, 0));
  // A run that is divided shows the tasks of one part: the first that went wrong.
  const shownPart = $derived(run?.parts?.[0]);
  const ofPart = $derived(
    run && shownPart ? { ...run, attempts: run.attempts.filter((a) => a.part === shownPart.part) } : run,
  );
  const goesOn = $derived(run ? ['failed', 'partly', 'blank', 'cancelled'].includes(run.state) : false);
  const held = $derived(run?.state === 'blank');
  const failed = $derived(run?.attempts.filter((a) => a.state === 'failed').at(-1));
  const sent = $derived(counts['sent'] ?? 0);

  const values = $derived<Record<string, unknown>>({ ...run?.values, ...run?.given });
  const report = $derived(run?.tasks.find((t) => t.report)?.report);
</script>

<svelte:head><title>{run ? `${run.job}, run ${run.id}` : 'Run'} · Iron Bell</title></svelte:head>

{#if query.isError}<Trouble error={query.error} />{/if}
{#if run}
  <div class="flex flex-wrap items-baseline gap-3.5">
    <span class="soft"><a href={p('/runs')}>Runs</a> /</span>
    <h1><a href={p('/jobs/:job', { params: { job: String(run.job_id) } })}>{run.job}</a></h1>
    <span class="mono soft">run {run.id}</span>
    <span role="status"
      ><StateMark
        state={run.state}
        word={run.reason && !run.reason.startsWith(run.state)
          ? `${run.state}: ${run.reason}`.slice(0, 90)
          : run.reason || run.state}
      /></span
    >
    {#if run.rehearsal}<span class="chip">rehearsal: its results go only to the one who asked</span>{/if}
    <span class="flex-1"></span>
    {#if !ended}<button class="btn" disabled={steer.isPending} onclick={() => steer.mutate('cancel')}
        >Cancel</button
      >{/if}
    {#if goesOn}<button class="btn" disabled={steer.isPending} onclick={() => steer.mutate('on')}
        >Go on where it stopped</button
      >{/if}
    {#if held}<button class="btn" disabled={steer.isPending} onclick={() => steer.mutate('anyway')}
        >Send it as it is</button
      >{/if}
    {#if ended}<button class="btn" disabled={steer.isPending} onclick={() => steer.mutate('whole')}
        >Make it again</button
      >{/if}
    {#if run.comparable}<a class="btn" href={p('/runs/:run/compare', { params: { run: run.id } })}>Compare</a
      >{/if}
    {#if report}<a
        class="btn"
        href={`${p('/reports/:report', { params: { report } })}?values=${encodeURIComponent(JSON.stringify({ ...run.values, ...run.given }))}`}
        >Look at the report</a
      >{/if}
    {#if !ended && run.started_at}<span class="soft"
        >for {length(between(run.started_at, now.ms))}{#if run.usual_seconds !== undefined}; usually {length(
            run.usual_seconds,
          )}{/if}</span
      >{/if}
  </div>
  {#if steer.isError}<Trouble error={steer.error} />{/if}
  <section class="panel px-3.5 py-2.5">
    <p>
      <b>Why it rang.</b>
      {run.why} Due <ZonedTime at={run.due} zone={run.zone} seconds />{#if run.started_at}, started {length(
          between(run.due, run.started_at),
        )} later{/if}{#if run.ended_at && run.started_at}, ended <ZonedTime
          at={run.ended_at}
          zone={run.zone}
          seconds
        /> after {length(between(run.started_at, run.ended_at))}{/if}.
    </p>
    {#if run.deadline}<p>Must have arrived by <ZonedTime at={run.deadline} zone={run.zone} />.</p>{/if}
    {#if run.missing?.length}<p><b>It still waits for</b> {run.missing.join(' and ')}.</p>{/if}
    {#if Object.keys(values).length > 0}
      <p class="soft mt-1">
        Values:
        {#each Object.entries(values) as [key, value] (key)}<span class="mono mr-3"
            >{key} = {value}{#if run.given && key in run.given}&nbsp;(given){/if}</span
          >{/each}
      </p>
    {/if}
    {#if failed && run.state !== 'done'}
      <p class="mt-2">
        <StateMark state="failed" word="Task {failed.task}, {failed.class}:" />
        {failed.note}
      </p>
      {#if failed.advice}<p><b>What you can do.</b> {failed.advice}</p>{/if}
    {/if}
  </section>
  {#each run.alerts.filter((a) => a.state !== 'closed') as alert (alert.id)}
    <div class="panel"><AlertCard {alert} whole /></div>
  {/each}
  {#if run.attempts.length > 0}
    <section>
      <h2>
        Tasks{#if shownPart}<span class="soft ml-1">of part {shownPart.name || shownPart.part}</span>{/if}
      </h2>
      {#if ofPart}<TaskAxis run={ofPart} />{/if}
    </section>
  {/if}
  {#if run.deliveries.length > 0}
    <section>
      <div class="mb-2 flex flex-wrap items-baseline gap-3">
        <h2>
          Deliveries: {sent.toLocaleString('en-GB')} of {allDeliveries.toLocaleString('en-GB')} sent{#if run.deliveries.length < allDeliveries}<span
              class="soft ml-1"
              >{run.deliveries.length.toLocaleString('en-GB')} here, those that went wrong first</span
            >{/if}
        </h2>
        <span class="flex-1"></span>
        {#if failedDeliveries > 1}<button
            class="btn"
            disabled={resend.isPending}
            onclick={() => resend.mutate()}>Send the {failedDeliveries} that failed again</button
          >{/if}
        {#if ended && sent > 0}<button class="btn" onclick={() => (correcting = !correcting)}
            >A wrong report went out …</button
          >{/if}
      </div>
      {#if resend.isError}<Trouble error={resend.error} />{/if}
      {#if correcting}
        <form
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
  {/if}
  {#if run.parts?.length}
    <section>
      <h2>
        {run.part_count.toLocaleString('en-GB')} parts{#if run.parts.length < run.part_count}, the first {run
            .parts.length} here; those that went wrong come first{/if}
      </h2>
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="panel max-h-96 overflow-auto" tabindex="0" role="region" aria-label="Parts">
        <table class="grid-list">
          <thead
            ><tr
              ><th>Part</th><th>State</th><th>To</th><th class="!text-right">Sent</th><th class="!text-right"
                >Open</th
              ><th class="!text-right">Not sent</th><th>Why</th></tr
            ></thead
          >
          <tbody>
            {#each run.parts as part (part.part)}
              <tr
                ><td>{part.name || part.part}</td><td><StateMark state={part.state} /></td><td
                  >{part.recipient}</td
                ><td class="!text-right">{part.sent}</td><td class="!text-right">{part.open}</td><td
                  class="!text-right {part.not_sent ? 'text-error font-semibold' : ''}">{part.not_sent}</td
                ><td class="soft">{part.state === 'done' ? '' : part.reason}</td></tr
              >
            {/each}
          </tbody>
        </table>
      </div>
    </section>
  {/if}
  {#if run.links?.length}
    <section>
      <div class="flex flex-wrap items-baseline gap-3">
        <h2>Links</h2>
        <span class="flex-1"></span>
        {#if run.links.some((l) => !l.withdrawn_at && !l.ended)}<button
            class="btn"
            disabled={withdraw.isPending}
            onclick={() => withdraw.mutate()}>Withdraw them</button
          >{/if}
      </div>
      {#if withdraw.isError}<Trouble error={withdraw.error} />{/if}
      <div class="panel px-3.5 py-2">
        {#each run.links as l (l.id)}
          <p>
            For {l.words}.
            {#if l.withdrawn_at}<StateMark state="cancelled" word="withdrawn" /> by {l.withdrawn_by},
              <ZonedTime at={l.withdrawn_at} zone={run.zone} />.{:else}Ends <ZonedTime
                at={l.ends_at}
                zone={run.zone}
              />.{/if}
            <span class="soft"
              >Followed {l.follows}
              {l.follows === 1 ? 'time' : 'times'}{#if l.last_at}, last <ZonedTime
                  at={l.last_at}
                  zone={run.zone}
                />{/if}.</span
            >
          </p>
        {/each}
      </div>
    </section>
  {/if}
  {#if run.artifacts.length > 0}
    <section>
      <h2>Files</h2>
      <div class="panel flex flex-wrap gap-x-6 gap-y-1 px-3.5 py-2">
        {#each run.artifacts as f (f.id)}
          <span
            >{#if f.removed_at}<span class="line-through">{f.name}</span> (removed
              <ZonedTime at={f.removed_at} zone={run.zone} />)
            {:else}<a class="link-plain underline" href="/api/files/{f.id}" download>{f.name}</a>{/if}
            <span class="soft">{size(f.size)}, {f.rows.toLocaleString('en-GB')} rows</span></span
          >
        {/each}
      </div>
    </section>
  {/if}
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
{/if}
