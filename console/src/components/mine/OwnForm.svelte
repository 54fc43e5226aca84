<script lang="ts">
  // An own schedule in four fields: which report, when, as what, and with which values.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import {
    api,
    body,
    type OpenReport,
    type OwnSchedule,
    type OwnScheduleLine,
    type Values,
  } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import { zoneWord } from '../../lib/time';
  import Field from '../Field.svelte';
  import Trouble from '../Trouble.svelte';
  import ValueForm from '../ValueForm.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const {
    reports,
    schedule,
    onclose,
  }: { reports: OpenReport[]; schedule?: OwnScheduleLine; onclose: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  let report = $state(untrack(() => schedule?.report ?? reports[0]?.report ?? ''));
  let when = $state(untrack(() => schedule?.when ?? 'on weekdays at 07:00'));
  let form = $state<NonNullable<OwnSchedule['form']>>(untrack(() => schedule?.form ?? 'pdf'));
  let values = $state<Values>(untrack(() => ({ ...schedule?.values })));
  const offered = $derived(
    reports.some((r) => r.report === report)
      ? reports
      : [...reports, { report, title: report, owner: '', asks: 1 }],
  );
  const reads = createQuery(() => asks.when({ rule: when }, myZone(), [], when.length));
  const next = $derived(reads.data?.fires.find((f) => !f.passed));
  const asksFor = createQuery(() => ({
    ...asks.choices(report, values),
    enabled: report !== '' && (reports.find((r) => r.report === report)?.asks ?? 1) > 0,
  }));
  const forms = [
    ['pdf', 'a PDF'],
    ['xlsx', 'a spreadsheet'],
    ['html-mail', 'tables in the mail itself'],
    ['pptx', 'slides'],
    ['csv', 'a CSV file'],
  ] as const;
  const save = createMutation(() => ({
    meta: { says: 'It is scheduled, and comes to you alone.' },
    mutationFn: () => {
      const own = { report, when, form, ...(Object.keys(values).length && { values }) };
      return schedule
        ? body(
            api.PUT('/api/own-schedules/{job}', {
              params: { path: { job: String(schedule.id) } },
              body: own,
            }),
          )
        : body(api.POST('/api/own-schedules', { body: own }));
    },
    onSuccess: async () => {
      await changed(client, 'job');
      close();
    },
  }));
</script>

<form
  {@attach opened(onclose)}
  class="grid max-w-3xl gap-2 py-2"
  aria-label={schedule ? `Change ${schedule.name}` : 'Schedule a report for yourself'}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate();
  }}
>
  <Field label="Report">
    {#snippet children(names)}
      <select {...names} class="select select-sm bg-base-100 w-full" bind:value={report}>
        {#each offered as r (r.report)}<option value={r.report}>{r.report}</option>{/each}
      </select>
    {/snippet}
  </Field>
  <Field
    label="When"
    help="In words, such as every day at 07:00 or on the first monday of every month at 08:00; times are of {zoneWord(
      myZone(),
    )}."
  >
    {#snippet children(names)}
      <input {...names} class="input input-sm bg-base-100 mono w-full" bind:value={when} />
    {/snippet}
  </Field>
  <p class="text-[13px] sm:pl-[11.5rem]" role="status">
    {#if reads.data?.wrong}<span class="text-error">{reads.data.wrong.sentence}</span>
    {:else if reads.data}{reads.data.reading}{#if next}; next on <ZonedTime
          at={next.at}
          zone={myZone()}
        />{/if}{/if}
  </p>
  <Field label="As">
    {#snippet children(names)}
      <select {...names} class="select select-sm bg-base-100 w-full" bind:value={form}>
        {#each forms as [value, word] (value)}<option {value}>{word}</option>{/each}
      </select>
    {/snippet}
  </Field>
  {#if asksFor.data?.length}
    <fieldset class="grid gap-2 sm:pl-[11.5rem]">
      <legend class="soft text-[13px]">With these values; what is empty is as the report has it</legend>
      <ValueForm offers={asksFor.data} bind:values />
    </fieldset>
  {/if}
  {#if asksFor.isError}<Trouble error={asksFor.error} />{/if}
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending || !report || !when.trim()}
      >{schedule ? 'Save it' : 'Send it to me'}</button
    >
    <button class="btn" type="button" onclick={onclose}
      >{schedule ? 'Leave it as it is' : 'Schedule none'}</button
    >
  </div>
</form>
