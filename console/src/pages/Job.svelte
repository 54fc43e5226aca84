<script lang="ts">
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import AheadView from '../components/AheadView.svelte';
  import ChangeWhen from '../components/ChangeWhen.svelte';
  import RunTable from '../components/RunTable.svelte';
  import StateMark from '../components/StateMark.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { api, body, type JobPage } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { mayChange } from '../lib/me.svelte';
  import { now } from '../lib/now.svelte';
  import { distance, length, zoneWord } from '../lib/time';
  import { param } from '../lib/param';
  import { navigate, p, route } from '../router';

  const name = $derived(param(route.params.job));
  const client = useQueryClient();
  const query = createQuery(() => asks.job(name));
  const runs = createQuery(() => asks.runsOf(name));
  const job = $derived(query.data);
  const editing = $derived(searchParams.get('change') === 'when');
  const may = $derived(job ? mayChange(job.owner) : false);
  const why = createQuery(() => asks.why(name));
  const ring = createMutation(() => ({
    mutationFn: (rehearse: boolean) =>
      body(api.POST('/api/jobs/{job}/ring', { params: { path: { job: name } }, body: { rehearse } })),
    onSuccess: (run) => navigate('/runs/:run', { params: { run: run.id } }),
  }));
  const turn = createMutation(() => ({
    mutationFn: (on: boolean) =>
      body(api.POST('/api/jobs/{job}/switch', { params: { path: { job: name } }, body: { on } })),
    onSuccess: () => changed(client, 'job'),
  }));
  const outage = { once: 'run once', each: 'run each', none: 'pass them over' };
  const blank = {
    hold: 'hold it, send nothing',
    send: 'send it with a note',
    retry: 'try it again',
    fail: 'take it for a failure',
  };
  // It asks sources for lists, so only when somebody wants to know.
  const ahead = createQuery(() => asks.ahead(name));
  type Task = NonNullable<JobPage['tasks']>[number];

  function does(t: Task): [string, string] {
    if (t.report)
      return [
        `report “${t.report.report}”, read as ${job?.read_as?.[t.name] ?? 'the login of its source'}, as`,
        t.report.outputs.map((o) => `${o.format}${o.name ? `: ${o.name}` : ''}`).join('\n'),
      ];
    if (t.deliver) {
      const d = t.deliver;
      const whom = [
        ...(d.to ?? []),
        ...(d.to_query ? [`addresses from “${d.to_query.source}”`] : []),
        ...(d.cc ?? []).map((a) => `copy ${a}`),
        ...(d.bcc ?? []).map((a) => `blind copy ${a}`),
      ];
      if (whom.length) return [`deliver over “${d.destination}” to`, whom.join(', ')];
      return [
        `bring the files to “${d.destination}”`,
        [
          d.folder && `folder ${d.folder}`,
          d.name && `as ${d.name}`,
          d.if_exists && `if one exists: ${d.if_exists}`,
        ]
          .filter(Boolean)
          .join(', '),
      ];
    }
    if (t.collect)
      return [`collect ${t.collect.take ?? 'newest'} from “${t.collect.source}”`, t.collect.pattern];
    if (t.fetch) return ['fetch', t.fetch.url];
    if (t.query) return [`run a statement on “${t.query.source}”`, t.query.sql];
    if (t.program) return ['run program', [t.program.program, ...(t.program.arguments ?? [])].join(' ')];
    if (t.call) return [`call “${t.call.destination}”`, t.call.path ?? ''];
    if (t.emit) return ['raise the event', t.emit.type];
    return [t.kind, ''];
  }

  function place(t: Task, i: number): string {
    const words = [];
    if (t.after?.length) words.push(`after ${t.after.join(' and ')}`);
    else if (t.after && i > 0) words.push('at once');
    if (t.only_if) words.push(`only if ${t.only_if}`);
    if (t.if_failed === 'go on') words.push('if it fails, the job goes on');
    return words.join('; ');
  }
  const unknown = { ask: 'ask, never send twice', resend: 'send again' };
  const overlap = { wait: 'wait for it', 'pass over': 'pass over the ring', together: 'run together' };
</script>

<svelte:head><title>{job?.name ?? 'Job'} · Iron Bell</title></svelte:head>

{#snippet row(label: string, text: string)}
  <dt class="soft">{label}</dt>
  <dd class="border-base-300 border-b pb-1">{text}</dd>
{/snippet}

{#if query.isError}<Trouble error={query.error} />{/if}
{#if job}
  <div class="flex flex-wrap items-baseline gap-3.5">
    <span class="soft"><a href={p('/jobs')}>Jobs</a> /</span>
    <h1>{job.name}</h1>
    <StateMark state={job.on ? 'done' : 'cancelled'} word={job.on ? 'on' : 'off'} />
    <span class="flex-1"></span>
    {#if may}
      <button class="btn" disabled={turn.isPending} onclick={() => turn.mutate(!job.on)}
        >{job.on ? 'Switch off' : 'Switch on'}</button
      >
      <button
        class="btn"
        disabled={ring.isPending}
        title="Everything runs for real, and the results go only to you"
        onclick={() => ring.mutate(true)}>Rehearse</button
      >
      <button class="btn btn-primary" disabled={ring.isPending} onclick={() => ring.mutate(false)}
        >Ring now</button
      >
    {/if}
  </div>
  {#if turn.isSuccess}
    <p role="status">
      {turn.data.on
        ? 'Switched on. It rings from now on; what it missed while it was off is not made up.'
        : 'Switched off, at once. Every setting is kept; what works now goes on to its end.'}
    </p>
  {/if}
  {#if ring.isError}<Trouble error={ring.error} />{/if}
  {#if turn.isError}<Trouble error={turn.error} />{/if}
  {#if editing}<ChangeWhen {job} done={() => searchParams.delete('change')} />{/if}
  <div class="grid grid-cols-[1.350fr_1fr] gap-4 max-lg:grid-cols-1">
    <div class="flex min-w-0 flex-col gap-2.5">
      <section class="panel px-3.5 py-2.5">
        <div class="flex justify-between">
          <h2>When, in {zoneWord(job.zone)}</h2>
          {#if may}<button
              class="cursor-pointer text-[13px] underline"
              onclick={() => searchParams.set('change', 'when')}>Change when</button
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
                <b>{t.name}</b>: {does(t)[0]}
                <div class="mono break-words whitespace-pre-line">{does(t)[1]}</div>
                {#if place(t, i)}<div class="soft text-[13px]">{place(t, i)}</div>{/if}
              </div>
            </li>
          {/each}
        </ol>
      </section>
      {#if job.values && Object.keys(job.values).length > 0}
        <section class="panel px-3.5 py-2.5">
          <h2>Values</h2>
          <dl class="mono grid grid-cols-[auto_1fr] gap-x-4">
            {#each Object.entries(job.values) as [key, value] (key)}<dt class="soft">{key}</dt>
              <dd>{value}</dd>{/each}
          </dl>
        </section>
      {/if}
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
    </div>
    <div class="flex min-w-0 flex-col gap-2.5">
      <section class="panel bg-base-200 px-3.5 py-2.5">
        <h2>How it stands</h2>
        {#if job.last}
          <p>
            Last <a href={p('/runs/:run', { params: { run: job.last.id } })}
              ><StateMark state={job.last.state} /></a
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
        {#each why.data?.reasons
          .filter((r) => r.what !== 'coming')
          .slice(0, 8) ?? [] as r (r.at + r.sentence)}
          <p class="border-base-300 border-b py-1 last:border-0">
            {#if r.run}<a href={p('/runs/:run', { params: { run: r.run } })}
                ><StateMark state={r.state ?? 'waiting'} /></a
              >{/if}
            {r.sentence}
          </p>
        {:else}<p class="soft">Nothing has been decided yet.</p>{/each}
      </section>
    </div>
  </div>
  <section>
    <h2>Runs</h2>
    {#if runs.data?.length}<RunTable runs={runs.data} jobs={false} />{:else}<p class="soft">
        There are none yet.{may ? ' “Ring now” makes one.' : ''}
      </p>{/if}
  </section>
{/if}
