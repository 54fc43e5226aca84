<script lang="ts">
  // One calendar: its days, what goes by it, and what a change would do, before it is done.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import CalendarDayForm from '../components/CalendarDayForm.svelte';
  import CalendarMissing from '../components/CalendarMissing.svelte';
  import CalendarEntries from '../components/CalendarEntries.svelte';
  import MonthGrid, { type GridDay } from '../components/MonthGrid.svelte';
  import RecordActions from '../components/records/RecordActions.svelte';
  import Trouble from '../components/Trouble.svelte';
  import WhatIf from '../components/whatif/WhatIf.svelte';
  import WhatIfButton from '../components/whatif/WhatIfButton.svelte';
  import { api, beganFrom, body, type CalendarDefinition, type CalendarEntry } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { isAdministrator, myZone } from '../lib/me.svelte';
  import { dateIn, monthsFrom } from '../lib/month';
  import { param } from '../lib/param';
  import { navigate, p, route } from '../router';

  const name = $derived(param(route.params.calendar));
  const client = useQueryClient();
  const query = createQuery(() => asks.calendar(name));
  const kept = $derived(query.data ?? null);
  const weekdays = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];
  let draft = $state<CalendarDefinition | null>(null);
  let notes = $state<string[]>([]);
  /** Closed days that the file which was read does not have. */
  let missing = $state<CalendarEntry[]>([]);
  const shown = $derived<CalendarDefinition>(
    draft ?? { week: kept?.week, closed: kept?.closed ?? [], open: kept?.open ?? [] },
  );
  const week = $derived(shown.week ?? weekdays.slice(0, 5));
  const months = $derived(monthsFrom(dateIn(Date.now(), myZone()), 12));
  const days = $derived(
    Object.fromEntries(
      (kept?.closings ?? []).map((d): [string, GridDay] => [
        d.date,
        { tone: 'closed', text: `closed, ${d.label}` },
      ]),
    ),
  );
  // From which revision the draft began.
  let began: number | undefined;

  function change(next: Partial<CalendarDefinition>) {
    if (!query.isSuccess) return; // what is there is not known yet, and would be lost
    if (!draft) began = query.data?.revision ?? 0;
    draft = { ...shown, ...next };
  }

  const clean = (d: CalendarDefinition): CalendarDefinition => ({
    ...(d.week && { week: d.week }),
    ...(d.closed?.length && { closed: d.closed }),
    ...(d.open?.length && { open: d.open }),
  });
  const put = (d: CalendarDefinition) =>
    body(
      api.PUT('/api/calendars/{calendar}', {
        params: { path: { calendar: name } },
        body: clean(d),
        ...(began === undefined ? {} : beganFrom(began)),
      }),
    );
  let looking = $state(false);
  const save = createMutation(() => ({
    meta: { says: 'The calendar is saved.' },
    mutationFn: () => put(shown),
    onSuccess: async () => {
      draft = null;
      notes = [];
      missing = [];
      await changed(client, 'calendar');
    },
  }));
  const read = createMutation(() => ({
    mutationFn: async (file: File) =>
      body(api.POST('/api/icalendar', { body: { text: await file.text(), calendar: name } })),
    onSuccess: (got) => {
      missing = got.missing;
      notes = [
        `${got.entries.length} whole-day events were read, ${got.added.length} of them new.`,
        ...got.notes,
      ];
      change({ closed: got.merged });
    },
  }));

  const same = (a: CalendarEntry, b: CalendarEntry) =>
    a.date === b.date && a.rule === b.rule && (a.days ?? 1) === (b.days ?? 1);
</script>

<svelte:head><title>{name} · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-3.5">
  <span class="soft"><a href={p('/calendars')}>Calendars</a> /</span>
  <h1>{name}</h1>
  {#if kept}<span class="soft">version {kept.version}</span>{:else if query.data === null}<span class="soft"
      >new, not saved yet</span
    >{/if}
  <span class="flex-1"></span>
  {#if isAdministrator() && query.isSuccess}
    <label class="btn cursor-pointer"
      >Read an .ics file<input
        type="file"
        accept=".ics,text/calendar"
        class="sr-only"
        onchange={(e) => {
          const file = e.currentTarget.files?.[0];
          if (file) read.mutate(file);
        }}
      /></label
    >
    <WhatIfButton bind:open={looking} disabled={!draft && kept !== null} />
    <button
      class="btn btn-primary"
      disabled={(!draft && kept !== null) || save.isPending}
      onclick={() => save.mutate()}>Save</button
    >
  {/if}
</div>
{#each [query, save, read] as q, i (i)}{#if q.isError}<Trouble error={q.error} />{/if}{/each}
{#each notes as n (n)}<p role="status" class="soft">{n}</p>{/each}
<CalendarMissing
  {missing}
  ontake={() => {
    change({ closed: (shown.closed ?? []).filter((e) => !missing.some((m) => same(m, e))) });
    missing = [];
  }}
/>
{#if week.length === 0}<p role="status" class="text-warning">
    No weekday is open: nothing that goes by this calendar would ring. Choose at least one.
  </p>{/if}
{#if kept}
  <RecordActions
    kind="calendar"
    {name}
    may={isAdministrator()}
    onrenamed={(to) => void navigate('/calendars/:calendar', { params: { calendar: to } })}
    oncopied={(to) => void navigate('/calendars/:calendar', { params: { calendar: to } })}
    onremoved={() => void navigate('/calendars')}
  />
{/if}
{#if save.isSuccess && !draft}<p role="status">
    Saved. The rings of the jobs that go by it were reckoned anew, at once.
  </p>{/if}
{#if looking && (draft || kept === null)}
  <WhatIf asked={{ calendar: { name, ...clean(shown) } }} pause={500} />
{/if}
{#if query.data !== undefined}
  <div class="grid grid-cols-[1fr_1.3fr] gap-4 max-lg:grid-cols-1">
    <div class="flex min-w-0 flex-col gap-2.5">
      <section class="panel px-3.5 py-2.5">
        <h2>Open weekdays</h2>
        <div class="flex flex-wrap gap-1.5" role="group" aria-label="Open weekdays">
          {#each weekdays as d (d)}
            <button
              class="chip"
              aria-pressed={week.includes(d)}
              disabled={!isAdministrator()}
              onclick={() =>
                change({
                  week: week.includes(d)
                    ? week.filter((w) => w !== d)
                    : weekdays.filter((w) => w === d || week.includes(w)),
                })}>{d}</button
            >
          {/each}
        </div>
      </section>
      <CalendarEntries
        title="Closed"
        entries={shown.closed ?? []}
        empty="No day is closed but for the weekdays above."
        ontake={(closed) => change({ closed })}
      />
      {#if shown.open?.length}<CalendarEntries
          title="Open besides"
          entries={shown.open}
          ontake={(open) => change({ open })}
        />{/if}
      {#if isAdministrator()}
        <CalendarDayForm add={(key, entry) => change({ [key]: [...(shown[key] ?? []), entry] })} />
      {/if}
      <section class="panel px-3.5 py-2.5">
        <h2>Jobs that go by it</h2>
        {#each kept?.used_by ?? [] as j (j)}<div>
            <a href={p('/jobs/:job', { params: { job: j } })}>{j}</a>
          </div>{:else}<p class="soft">None.</p>{/each}
      </section>
    </div>
    <section class="panel px-3.5 py-2.5">
      <h2>Closed days of the coming year{draft ? ', as they are kept now' : ''}</h2>
      <div class="grid grid-cols-[repeat(auto-fill,minmax(236px,1fr))] items-start gap-x-3 gap-y-2">
        {#each months as [y, m] (`${y}-${m}`)}<MonthGrid year={y} month={m} {days} />{/each}
      </div>
    </section>
  </div>
{/if}
