<script lang="ts">
  // When a job rings: its zone and calendars, and its triggers, each with values of its own.
  import { around, faultsAt } from '../../lib/editing/context';
  import type { Written } from '../../lib/editing/hint';
  import type { Ahead, Condition, Timing } from '../../lib/api';
  import RuleEditor from '../RuleEditor.svelte';
  import Fields from './Fields.svelte';
  import Flags from './Flags.svelte';
  import JobValues from './JobValues.svelte';
  import LookNow from './LookNow.svelte';

  let {
    record = $bindable(),
    job,
    covered,
  }: { record: Written; job: string; covered: NonNullable<Ahead['covered']> } = $props();

  const { faults } = around();
  $effect.pre(() => {
    record.triggers ??= [];
  });
  const triggers = $derived((record.triggers ?? []) as Written[]);
  const calendars = $derived((record.calendars ?? []) as string[]);
  const timed = (t: Written) => t.rule !== undefined;
  const waits = (t: Written) =>
    Boolean(((t.wait as Written | undefined)?.for as unknown[] | undefined)?.length);
  const bounds = ['start', 'end', 'count', 'hours', 'closed'] as const;
  const timingOf = (t: Written): Timing => ({
    rule: String(t.rule ?? ''),
    ...(Object.fromEntries(
      bounds.filter((b) => t[b] !== undefined).map((b) => [b, t[b]]),
    ) as Partial<Timing>),
  });
  function setTiming(t: Written, to: Timing) {
    t.rule = to.rule;
    for (const b of bounds) t[b] = to[b];
  }
  const remove = (i: number) => (record.triggers = triggers.filter((_, k) => k !== i));
</script>

<Fields of="JobRequest" bind:record path="" only={['zone', 'calendars']} />
{#each triggers as t, i (t)}
  <div class="border-base-300 mt-2 border-t pt-2" data-path="triggers[{i}]">
    <div class="flex items-baseline gap-3">
      <b class="text-[13px]">{timed(t) ? 'By a rule' : 'By what happens'}</b>
      <span class="flex-1"></span>
      <button type="button" class="edit-link" aria-label="Remove trigger {i + 1}" onclick={() => remove(i)}
        >Remove</button
      >
    </div>
    {#if timed(t)}
      <RuleEditor
        bind:timing={() => timingOf(t), (to) => setTiming(t, to)}
        zone={String(record.zone ?? 'UTC')}
        {calendars}
        path="triggers[{i}]"
        covered={covered.find((c) => c.trigger === i)}
      />
    {/if}
    <details class="mt-1" open={!timed(t) || waits(t)}>
      <summary class="soft min-h-7 cursor-pointer text-[13px]"
        >{timed(t) ? 'Waits for something else, too' : 'What it waits for'}</summary
      >
      {#if triggers[i]}<Fields
          of="Trigger"
          bind:record={triggers[i]}
          path="triggers[{i}]"
          only={timed(t) ? ['wait'] : ['wait', 'hours']}
        />{/if}
      {#if waits(t)}<LookNow conditions={(t.wait as { for: Condition[] }).for} />{/if}
    </details>
    <details open={Boolean(t.values)}>
      <summary class="soft min-h-7 cursor-pointer text-[13px]">Values of its own</summary>
      <JobValues bind:record {job} trigger={i} />
    </details>
    <Flags faults={faultsAt(faults(), `triggers[${i}]`, true)} />
  </div>
{:else}
  <p class="soft mt-2">Without a trigger it rings only when somebody rings it.</p>
{/each}
<div class="border-base-300 mt-2 flex flex-wrap gap-4 border-t pt-2">
  <button type="button" class="edit-link" onclick={() => (record.triggers = [...triggers, { rule: '' }])}
    >Add a rule</button
  >
  <button
    type="button"
    class="edit-link"
    onclick={() => (record.triggers = [...triggers, { wait: { for: [{}] } }])}
    >Add a start by an event, a file or a job</button
  >
</div>
