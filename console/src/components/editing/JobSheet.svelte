<script lang="ts">
  // The whole of a job on one sheet; beside it what will happen, what is missing, who will see it.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, body, type Ahead, type JobRequest, type Place } from '../../lib/api';
  import { setAround } from '../../lib/editing/context';
  import { Draft } from '../../lib/editing/draft.svelte';
  import { without, type Written } from '../../lib/editing/hint';
  import { aheadFaults, faultsOf, numbered, toAsk } from '../../lib/editing/job';
  import { keeping } from '../../lib/editing/keeping.svelte';
  import { offersOf } from '../../lib/editing/offers';
  import { partsOf } from '../../lib/editing/parts';
  import { Saving } from '../../lib/editing/saving.svelte';
  import { me } from '../../lib/me.svelte';
  import { asks, changed } from '../../lib/queries';
  import { navigate, p } from '../../router';
  import Trouble from '../Trouble.svelte';
  import WhatIf from '../whatif/WhatIf.svelte';
  import WhatIfButton from '../whatif/WhatIfButton.svelte';
  import Clashes from './Clashes.svelte';
  import DraftLine from './DraftLine.svelte';
  import Fields from './Fields.svelte';
  import JobActions from './JobActions.svelte';
  import JobMore from './JobMore.svelte';
  import JobTasks from './JobTasks.svelte';
  import JobValues from './JobValues.svelte';
  import JobWhen from './JobWhen.svelte';
  import Ledger from './Ledger.svelte';
  import Panel from './Panel.svelte';
  import PanelMore from './PanelMore.svelte';

  const { record, base, began, places }: { record: string; base: Written; began: number; places: Place[] } =
    $props();

  const client = useQueryClient();
  const draft = untrack(
    () => new Draft('job', record || 'a new job', record, me()?.login ?? '', base, began),
  );
  const kept = keeping(draft);

  const people = createQuery(() => asks.people());
  const sources = createQuery(() => asks.sources());
  const reports = createQuery(() => asks.reports());
  const calendars = createQuery(() => asks.calendars());
  const zones = createQuery(() => asks.zones());

  // What will happen, looked up when somebody pauses.
  let ahead = $state.raw<Ahead>();
  let refused = $state.raw<ReturnType<typeof faultsOf>>([]);
  let looking = $state(false);
  const asked = $derived(JSON.stringify([draft.name, toAsk(draft.value)]));
  $effect(() => {
    if (!kept.ready) return;
    const text = asked;
    const ending = new AbortController();
    const timer = setTimeout(() => void look(text, ending.signal), 500);
    return () => {
      clearTimeout(timer);
      ending.abort();
    };
  });
  async function look(text: string, signal: AbortSignal) {
    const [job, value] = JSON.parse(text) as [string, JobRequest];
    looking = true;
    try {
      ahead = await body(
        api.POST('/api/jobs/{job}/ahead', {
          params: { path: { job: job.trim() || 'new job' } },
          body: { ...value, on: true },
          signal,
        }),
      );
      refused = [];
    } catch (error) {
      if (!signal.aborted) refused = faultsOf(error);
    } finally {
      if (!signal.aborted) looking = false;
    }
  }
  let whatIf = $state(false);
  const wouldBe = $derived({
    job: {
      ...(without(toAsk(draft.value)) as JobRequest),
      name: draft.name.trim(),
      on: !record || Boolean(draft.value.on), // a new one would be switched on
    },
  });
  const faults = $derived(
    numbered([
      ...(draft.name.trim() ? [] : [{ where: 'name', sentence: 'Give it a name.' }]),
      ...(refused.length ? refused : ahead ? aheadFaults(ahead) : []),
    ]),
  );
  setAround({
    faults: () => faults,
    parts: (path) => partsOf(draft.value, reports.data ?? [], path),
    offers: offersOf(() => ({
      value: draft.value,
      places,
      people: people.data ?? [],
      sources: sources.data ?? [],
      reports: reports.data ?? [],
      calendars: calendars.data ?? [],
      zones: zones.data ?? [],
    })),
  });

  const saving = new Saving(draft, {
    schema: 'JobRequest',
    put: (job, headers) =>
      body(
        api.PUT('/api/jobs/{job}', {
          params: { path: { job } },
          ...headers,
          body: without(toAsk(draft.value)) as JobRequest,
        }),
      ),
    get: (job) => body(api.GET('/api/jobs/{job}', { params: { path: { job } } })),
  });
  async function save(on: boolean) {
    draft.value.on = on;
    const name = await saving.save();
    if (name) await changed(client, 'job');
    return name;
  }
</script>

<div class="flex flex-wrap items-baseline gap-x-3.5 gap-y-1">
  <span class="soft"><a href={p('/jobs')}>Jobs</a> /</span>
  <h1>{record || 'New job'}</h1>
  <DraftLine
    {draft}
    drop={async () => {
      await draft.drop();
      void (record ? navigate('/jobs/:job', { params: { job: record } }) : navigate('/jobs'));
    }}
  />
</div>
{#if kept.trouble ?? saving.trouble}<Trouble error={kept.trouble ?? saving.trouble} />{/if}
{#if saving.meanwhile}<Clashes meanwhile={saving.meanwhile} done={(value) => saving.goOn(value)} />{/if}
{#if kept.ready}
  <div class="grid grid-cols-[minmax(0,1fr)_20rem] items-start gap-6 max-lg:grid-cols-1">
    <form onsubmit={(e) => e.preventDefault()} aria-label="The job">
      {#if !record}
        <Ledger title="Name">
          <div data-path="name">
            <label class="sr-only" for="job-name">Name of the job</label>
            <input
              id="job-name"
              class="input input-sm bg-base-100 w-full max-w-lg font-semibold"
              maxlength="200"
              bind:value={draft.name}
            />
          </div>
        </Ledger>
      {/if}
      <Ledger title="What it does">
        <JobTasks bind:tasks={draft.value.tasks as Written[]} {places} {ahead} />
      </Ledger>
      <Ledger title="With which values">
        <JobValues bind:record={draft.value} job={record} />
      </Ledger>
      <Ledger title="When">
        <JobWhen bind:record={draft.value} job={record} covered={ahead?.covered ?? []} />
        <div class="mt-2 grid gap-2">
          <div><WhatIfButton bind:open={whatIf} disabled={!draft.name.trim()} /></div>
          {#if whatIf && draft.name.trim()}<WhatIf asked={wouldBe} pause={800} />{/if}
        </div>
      </Ledger>
      <Ledger title="If it fails">
        <Fields
          of="JobRequest"
          bind:record={draft.value}
          path=""
          only={['owner', 'second_owner', 'retry', 'if_blank', 'deadline', 'alert_on']}
        />
      </Ledger>
      <JobMore bind:record={draft.value} />
    </form>
    <aside class="sticky top-4 grid grid-cols-1 gap-4 max-lg:static" aria-label="What will happen">
      <Panel {ahead} {faults} {looking} on={Boolean(draft.value.on)} />
      <JobActions on={Boolean(draft.value.on)} isNew={!record} faults={faults.length} {save} />
      <PanelMore {ahead} />
    </aside>
  </div>
{:else}<p class="soft" role="status">Loading the draft …</p>{/if}
