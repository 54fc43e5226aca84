<script lang="ts">
  // Changes when a job rings: its zone, its calendars, its triggers.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, type JobPage, type Timing } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import RuleEditor from './RuleEditor.svelte';
  import Trouble from './Trouble.svelte';

  const { job, done }: { job: JobPage; done: () => void } = $props();
  type Trigger = NonNullable<JobPage['triggers']>[number];
  type Draft = { key: number; timing: Timing; values: Trigger['values']; wait: Trigger['wait'] };
  const client = useQueryClient();
  const whole = untrack(() => ({ ...job }));
  const zones = createQuery(() => asks.zones());
  const all = createQuery(() => asks.calendars());
  // What is edited is a draft: a job that changes meanwhile does not overwrite it.
  let zone = $state(untrack(() => job.zone));
  let calendars = $state(untrack(() => [...(job.calendars ?? [])]));
  let drafts = $state<Draft[]>(
    untrack(() =>
      (job.triggers ?? []).flatMap((t, key) =>
        t.rule === undefined
          ? []
          : [
              {
                key,
                timing: {
                  rule: t.rule,
                  ...(t.start && { start: t.start }),
                  ...(t.end && { end: t.end }),
                  ...(t.count && { count: t.count }),
                  ...(t.hours && { hours: t.hours }),
                  ...(t.closed && { closed: t.closed }),
                },
                values: t.values,
                wait: t.wait,
              },
            ],
      ),
    ),
  );
  // Triggers that wait for an event or a job have no rule to edit here, and stay.
  const others = untrack(() =>
    (job.triggers ?? [])
      .filter((t) => t.rule === undefined)
      .map((t) => ({ ...(t.wait && { wait: t.wait }), ...(t.values && { values: t.values }) })),
  );
  const waiting = untrack(() =>
    (job.triggers ?? []).filter((t) => t.rule === undefined).map((t) => t.reading),
  );
  let key = 1000;
  const save = createMutation(() => ({
    mutationFn: () =>
      body(
        api.PUT('/api/jobs/{job}', {
          params: { path: { job: whole.name } },
          ...beganFrom(whole.revision),
          body: {
            ...definition(whole),
            zone,
            calendars,
            triggers: [
              ...drafts.map((d) => ({
                ...d.timing,
                ...(d.values && { values: d.values }),
                ...(d.wait && { wait: d.wait }),
              })),
              ...others,
            ],
          },
        }),
      ),
    onSuccess: async () => {
      await changed(client, 'job');
      done();
    },
  }));

  // All that the job says, without what the service adds on its page.
  function definition(all: JobPage) {
    const {
      id,
      name,
      version,
      revision,
      updated_at,
      last,
      usual_seconds,
      upcoming,
      rings,
      read_as,
      ...rest
    } = all;
    void [id, name, version, revision, updated_at, last, usual_seconds, upcoming, rings, read_as];
    return rest;
  }

  function toggle(name: string) {
    calendars = calendars.includes(name) ? calendars.filter((c) => c !== name) : [...calendars, name];
  }
</script>

<section class="panel px-3.5 py-2.5" aria-label="Change when it rings">
  <div class="flex flex-wrap items-center gap-4 pb-2">
    <h2 class="mb-0!">Change when it rings</h2>
    <label class="flex items-center gap-2 text-[13px]"
      >Zone
      <select class="select select-sm bg-base-100 w-52" bind:value={zone}>
        {#each zones.data ?? [zone] as z (z)}<option value={z}>{z}</option>{/each}
      </select>
    </label>
    <span class="flex flex-wrap items-center gap-1.5 text-[13px]" role="group" aria-label="Calendars">
      Calendars
      {#each all.data ?? [] as c (c.name)}
        <button
          type="button"
          class="chip"
          aria-pressed={calendars.includes(c.name)}
          onclick={() => toggle(c.name)}>{c.name}</button
        >
      {/each}
      {#if calendars.length === 0}<span class="soft">none: Monday to Friday are open</span>{/if}
    </span>
  </div>
  {#each drafts as d, i (d.key)}
    <div class="border-base-300 border-t py-2.5">
      <div class="flex justify-between pb-1">
        <span class="soft text-[13px]">Trigger {i + 1}</span>
        <button
          type="button"
          class="text-error cursor-pointer text-[13px] underline"
          onclick={() => (drafts = drafts.filter((x) => x.key !== d.key))}>Remove this trigger</button
        >
      </div>
      <RuleEditor bind:timing={d.timing} {zone} {calendars} />
    </div>
  {:else}
    <p class="soft border-base-300 border-t py-2.5">Without a trigger the job rings on demand only.</p>
  {/each}
  {#each waiting as reading (reading)}
    <p class="soft border-base-300 border-t py-2.5">It also starts {reading}; that stays as it is.</p>
  {/each}
  <div class="border-base-300 flex flex-wrap items-center gap-2 border-t pt-2.5">
    <button
      type="button"
      class="btn"
      onclick={() =>
        (drafts = [...drafts, { key: (key += 1), timing: { rule: '' }, values: undefined, wait: undefined }])}
      >Add a trigger</button
    >
    <span class="flex-1"></span>
    <span class="soft text-[13px]">Takes effect at once; it rings from now on.</span>
    <button type="button" class="btn" onclick={done}>Leave as it was</button>
    <button type="button" class="btn btn-primary" disabled={save.isPending} onclick={() => save.mutate()}
      >Save</button
    >
  </div>
  {#if save.isError}<div class="pt-2"><Trouble error={save.error} /></div>{/if}
</section>
