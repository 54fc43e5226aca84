<script lang="ts">
  // One job: when it rings, what it does, how it stands.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import Waiting from '../components/events/Waiting.svelte';
  import RingForm from '../components/job/RingForm.svelte';
  import Standing from '../components/job/Standing.svelte';
  import Tasks from '../components/job/Tasks.svelte';
  import Triggers from '../components/job/Triggers.svelte';
  import WhenWrong from '../components/job/WhenWrong.svelte';
  import RecordActions from '../components/records/RecordActions.svelte';
  import RunTable from '../components/RunTable.svelte';
  import StateMark from '../components/StateMark.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { mayChange } from '../lib/me.svelte';
  import { param, searched, valuesIn } from '../lib/param';
  import { navigate, p, route } from '../router';

  const name = $derived(param(route.params.job));
  const client = useQueryClient();
  const query = createQuery(() => asks.job(name));
  const runs = createQuery(() => asks.runsOf(name));
  const job = $derived(query.data);
  const may = $derived(job ? mayChange(job.owner) : false);
  // The address may bring values: those of a run, or of a report that was looked at.
  let ringing = $state(untrack(() => searched('ring') === 'yes'));
  const given = untrack(() => valuesIn(searched('values')));
  const ring = createMutation(() => ({
    // What asks for values is rung with them before one's eyes; all else at once.
    mutationFn: async (rehearse: boolean) => {
      const asked = await client.fetchQuery(asks.values(name)).catch(() => null);
      if (asked?.values.length !== 0) return null;
      return body(api.POST('/api/jobs/{job}/ring', { params: { path: { job: name } }, body: { rehearse } }));
    },
    onSuccess: (run) => {
      if (run) void navigate('/runs/:run', { params: { run: run.id } });
      else ringing = true;
    },
  }));
  const turn = createMutation(() => ({
    meta: {
      says: (_: unknown, on: unknown) =>
        on ? 'The job is on.' : 'The job is off; all its settings are kept.',
    },
    mutationFn: (on: boolean) =>
      body(api.POST('/api/jobs/{job}/switch', { params: { path: { job: name } }, body: { on } })),
    onSuccess: () => changed(client, 'job'),
  }));
</script>

<svelte:head><title>{job?.name ?? 'Job'} · Iron Bell</title></svelte:head>

{#if query.isError}<Trouble error={query.error} />{/if}
{#if job}
  <div class="flex flex-wrap items-baseline gap-3.5">
    <span class="soft"><a href={p('/jobs')}>Jobs</a> /</span>
    <h1>{job.name}</h1>
    <StateMark state={job.on ? 'done' : 'cancelled'} word={job.on ? 'on' : 'off'} />
    <span class="flex-1"></span>
    {#if may && !ringing}
      <a class="btn" href={p('/jobs/:job/change', { params: { job: job.name } })}>Change</a>
      <button class="btn" disabled={turn.isPending} onclick={() => turn.mutate(!job.on)}
        >{job.on ? 'Switch off' : 'Switch on'}</button
      >
      <button
        class="btn"
        disabled={ring.isPending}
        title="Everything runs for real, and the results go only to you"
        onclick={() => ring.mutate(true)}>Rehearse to me</button
      >
      <button class="btn btn-primary" disabled={ring.isPending} onclick={() => ring.mutate(false)}
        >Ring now</button
      >
    {/if}
  </div>
  <RecordActions
    kind="job"
    name={job.name}
    {may}
    onrenamed={(to) => void navigate('/jobs/:job', { params: { job: to } })}
    oncopied={(to) => void navigate('/jobs/:job', { params: { job: to } })}
    onremoved={() => void navigate('/jobs')}
  />
  {#if turn.isSuccess}
    <p role="status">
      {turn.data.on
        ? 'Switched on. It rings from now on; what it missed while it was off is not made up.'
        : 'Switched off, at once. Every setting is kept; what works now goes on to its end.'}
    </p>
  {/if}
  {#if ring.isError}<Trouble error={ring.error} />{/if}
  {#if ringing && may}<RingForm {job} {given} done={() => (ringing = false)} />{/if}
  {#if turn.isError}<Trouble error={turn.error} />{/if}
  <div class="grid grid-cols-[1.350fr_1fr] gap-4 max-lg:grid-cols-1">
    <div class="flex min-w-0 flex-col gap-2.5">
      <Triggers {job} {may} />
      {#if job.triggers?.some((t) => t.wait)}<Waiting job={name} />{/if}
      <Tasks {job} {name} {may} />
      {#if job.values && Object.keys(job.values).length > 0}
        <section class="panel px-3.5 py-2.5">
          <h2>Values</h2>
          <dl class="mono grid grid-cols-[auto_1fr] gap-x-4">
            {#each Object.entries(job.values) as [key, value] (key)}<dt class="soft">{key}</dt>
              <dd>{value}</dd>{/each}
          </dl>
        </section>
      {/if}
      <WhenWrong {job} />
    </div>
    <div class="flex min-w-0 flex-col gap-2.5">
      <Standing {job} {name} />
    </div>
  </div>
  <section>
    <div class="flex items-baseline gap-3">
      <h2>Runs</h2>
      <a class="edit-link" href={p('/jobs/:job/archive', { params: { job: job.name } })}
        >Archive of its files</a
      >
    </div>
    {#if runs.data?.length}<RunTable runs={runs.data} jobs={false} />{:else}<p class="soft">
        There are none yet.{may ? ' “Ring now” makes one.' : ''}
      </p>{/if}
  </section>
{/if}
