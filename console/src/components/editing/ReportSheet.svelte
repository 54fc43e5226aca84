<script lang="ts">
  // A report as it is written: its queries, what it asks for, its sections; beside them what comes
  // out, as it will arrive.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, body, type Place, type ReportCheck, type ReportRequest, type Values } from '../../lib/api';
  import { setAround, setAroundQuery } from '../../lib/editing/context';
  import { Draft } from '../../lib/editing/draft.svelte';
  import { without, type Written } from '../../lib/editing/hint';
  import { faultsOf, numbered } from '../../lib/editing/job';
  import { keeping } from '../../lib/editing/keeping.svelte';
  import { offersOf } from '../../lib/editing/offers';
  import { columnsAt, fillsWith, takesColumns } from '../../lib/editing/report';
  import { Saving } from '../../lib/editing/saving.svelte';
  import { announce } from '../../lib/announce.svelte';
  import { me } from '../../lib/me.svelte';
  import { asks, changed } from '../../lib/queries';
  import { navigate, p } from '../../router';
  import Trouble from '../Trouble.svelte';
  import Clashes from './Clashes.svelte';
  import DraftLine from './DraftLine.svelte';
  import Fields from './Fields.svelte';
  import Ledger from './Ledger.svelte';
  import ReportAsks from './ReportAsks.svelte';
  import ReportOpen from './ReportOpen.svelte';
  import ReportFrame from './ReportFrame.svelte';
  import ReportSaving from './ReportSaving.svelte';
  import ReportSections from './ReportSections.svelte';
  import ReportWorkbooks from './ReportWorkbooks.svelte';
  import Versions from './Versions.svelte';

  const { record, base, began, sources }: { record: string; base: Written; began: number; sources: Place[] } =
    $props();

  const client = useQueryClient();
  const draft = untrack(
    () => new Draft('report', record || 'a new report', record, me()?.login ?? '', base, began),
  );
  const kept = keeping(draft);

  let values = $state<Values>({});
  let runs = $state(0); // how often somebody asked for the rows by hand
  const name = $derived(draft.name.trim());
  const definition = $derived(without(draft.value) as ReportRequest);

  // What the service says of it, when somebody pauses.
  let check = $state.raw<ReportCheck>();
  let refused = $state.raw<ReturnType<typeof faultsOf>>([]);
  const text = $derived(JSON.stringify(definition));
  $effect(() => {
    if (!kept.ready) return;
    const asked = JSON.parse(text) as ReportRequest;
    const ending = new AbortController();
    const timer = setTimeout(() => void look(asked, ending.signal), 600);
    return () => {
      clearTimeout(timer);
      ending.abort();
    };
  });
  async function look(asked: ReportRequest, signal: AbortSignal) {
    try {
      check = await body(
        api.POST('/api/reports/{report}/check', {
          params: { path: { report: record || name || 'new report' } },
          body: asked,
          signal,
        }),
      );
      refused = [];
    } catch (error) {
      if (!signal.aborted) refused = faultsOf(error);
    }
  }
  const faults = $derived(
    numbered([
      ...(name ? [] : [{ where: 'name', sentence: 'Give it a name.' }]),
      ...(refused.length ? refused : (check?.wrong ?? [])),
    ]),
  );

  const people = createQuery(() => asks.people());
  const house = createQuery(() => asks.setting('house', () => body(api.GET('/api/settings/house'))));
  const offers = offersOf(() => ({
    value: draft.value,
    places: [],
    people: people.data ?? [],
    sources,
    reports: [],
    calendars: [],
    zones: [],
    styles: house.data?.styles ?? [],
  }));
  setAround({
    faults: () => faults,
    offers: (schema, field, path) => {
      if (takesColumns.includes(`${schema}.${field}`)) return { words: columnsAt(check, draft.value, path) };
      return fillsWith(check, draft.value, `${schema}.${field}`, path) ?? offers(schema, field, path);
    },
  });
  setAroundQuery({
    source: () => {
      const source = String(draft.value.source ?? '');
      return {
        name: source,
        identity: String(draft.value.identity ?? ''),
        protocol: sources.find((s) => s.name === source)?.protocol ?? '',
      };
    },
    parameters: () =>
      ((draft.value.parameters ?? []) as Written[]).map((q) => ({
        name: String(q.name),
        type: String(q.type),
      })),
    run: () => (runs += 1),
  });

  const saving = new Saving(draft, {
    schema: 'ReportRequest',
    put: (report, headers) =>
      body(api.PUT('/api/reports/{report}', { params: { path: { report } }, ...headers, body: definition })),
    get: (report) => body(api.GET('/api/reports/{report}', { params: { path: { report } } })),
  });
  async function save(anyway: boolean) {
    draft.value.anyway = anyway || undefined;
    const saved = await saving.save();
    if (!saved) return;
    announce(`The report “${saved}” is saved.`);
    await changed(client, 'report');
    void navigate('/reports/:report', { params: { report: saved } });
  }
</script>

<div class="flex flex-wrap items-baseline gap-x-3.5 gap-y-1">
  <span class="soft"><a href={p('/reports')}>Reports</a> /</span>
  <h1>{record || 'New report'}</h1>
  <DraftLine
    {draft}
    drop={async () => {
      await draft.drop();
      void (record ? navigate('/reports/:report', { params: { report: record } }) : navigate('/reports'));
    }}
  />
</div>
{#if kept.trouble ?? saving.trouble}<Trouble error={kept.trouble ?? saving.trouble} />{/if}
{#if saving.meanwhile}<Clashes meanwhile={saving.meanwhile} done={(value) => saving.goOn(value)} />{/if}
{#if kept.ready}
  <div class="grid grid-cols-[minmax(0,1fr)_minmax(0,27rem)] items-start gap-6 max-xl:grid-cols-1">
    <form onsubmit={(e) => e.preventDefault()} aria-label="The report">
      <Ledger title="Report">
        {#if !record}
          <div data-path="name" class="pb-2">
            <label class="block text-[13px] font-semibold"
              >Name<input
                class="input input-sm bg-base-100 w-full max-w-lg"
                maxlength="200"
                bind:value={draft.name}
              /></label
            >
          </div>
        {/if}
        <Fields
          of="ReportRequest"
          bind:record={draft.value}
          path=""
          only={['source', 'identity', 'title', 'house_style', 'owner']}
        />
      </Ledger>
      <Ledger title="Sections">
        <ReportSections
          bind:sections={draft.value.sections as Written[]}
          {name}
          {definition}
          {values}
          {runs}
          {check}
        />
      </Ledger>
      <Ledger title="It asks for">
        <ReportAsks bind:record={draft.value} bind:values {name} {definition} />
      </Ledger>
      <Ledger title="Workbooks" note="Your own spreadsheets, filled">
        <ReportWorkbooks bind:record={draft.value} {check} report={record} />
      </Ledger>
      <ReportOpen bind:record={draft.value} />
      {#if record}
        <Ledger title="Versions">
          <Versions kind="report" name={record} now={definition} put={(to) => (draft.value = to)} />
        </Ledger>
      {/if}
    </form>
    <aside class="sticky top-4 grid gap-4 max-xl:static" aria-label="As it will arrive">
      <ReportSaving {check} {faults} isNew={!record} {save} />
      <ReportFrame {name} {definition} {values} wrong={faults.some((f) => f.where !== 'name')} />
    </aside>
  </div>
{:else}<p class="soft" role="status">Loading the draft …</p>{/if}
