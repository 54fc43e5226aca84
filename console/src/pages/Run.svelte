<script lang="ts">
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import AlertCard from '../components/AlertCard.svelte';
  import RunChain from '../components/run/RunChain.svelte';
  import RunDeliveries from '../components/run/RunDeliveries.svelte';
  import RunFiles from '../components/run/RunFiles.svelte';
  import RunLinks from '../components/run/RunLinks.svelte';
  import RunLog from '../components/run/RunLog.svelte';
  import RunParts from '../components/run/RunParts.svelte';
  import StateMark from '../components/StateMark.svelte';
  import TaskAxis from '../components/TaskAxis.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { api, body } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { now } from '../lib/now.svelte';
  import { between, length } from '../lib/time';
  import { navigate, p, route } from '../router';

  const id = $derived(route.params.run ?? '');
  const client = useQueryClient();
  const query = createQuery(() => asks.run(id));
  const run = $derived(query.data);
  const ended = $derived(Boolean(run?.ended_at));
  const steer = createMutation(() => ({
    meta: {
      says: (_: unknown, act: unknown) => (act === 'cancel' ? 'The run is told to end.' : 'It goes on.'),
    },
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
  // A run that is divided shows the tasks of one part: the first that went wrong.
  const shownPart = $derived(run?.parts?.[0]);
  const ofPart = $derived(
    run && shownPart ? { ...run, attempts: run.attempts.filter((a) => a.part === shownPart.part) } : run,
  );
  const goesOn = $derived(run ? ['failed', 'partly', 'blank', 'cancelled'].includes(run.state) : false);
  const held = $derived(run?.state === 'blank');
  const failed = $derived(run?.attempts.filter((a) => a.state === 'failed').at(-1));

  /** What stands in place of a value that an event lacked. */
  const lacks = (value: unknown) => typeof value === 'object' && value !== null && 'lacks' in value;
  const taken = (given: Record<string, unknown> = {}) =>
    Object.fromEntries(Object.entries(given).filter(([, value]) => !lacks(value)));
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
      >
      <a
        class="btn"
        href="{p('/jobs/:job', { params: { job: run.job } })}?{new URLSearchParams({
          ring: 'yes',
          values: JSON.stringify(taken(run.given)),
        })}">Ring with other values</a
      >{/if}
    {#if run.comparable}<a class="btn" href={p('/runs/:run/compare', { params: { run: run.id } })}>Compare</a
      >{/if}
    {#if report}<a
        class="btn"
        href={`${p('/reports/:report', { params: { report } })}?values=${encodeURIComponent(JSON.stringify({ ...run.values, ...taken(run.given) }))}`}
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
            >{key} = {lacks(value)
              ? 'not in the event'
              : value}{#if run.given && key in run.given}&nbsp;(given){/if}</span
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
      {#if ofPart}
        <RunChain tasks={run.tasks} attempts={ofPart.attempts} />
        <TaskAxis run={ofPart} />
      {/if}
    </section>
  {/if}
  {#if run.deliveries.length > 0}<RunDeliveries {run} />{/if}
  {#if run.parts?.length}<RunParts {run} />{/if}
  {#if run.links?.length}<RunLinks {run} />{/if}
  {#if run.artifacts.length > 0}<RunFiles {run} />{/if}
  <RunLog {run} />
{/if}
