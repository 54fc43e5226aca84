<script lang="ts">
  // A day that changes on two tapes, one above the other: as it is, and as it would be.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Day, WhatIf } from '../../lib/api';
  import { addDays, startOf } from '../../lib/month';
  import { now } from '../../lib/now.svelte';
  import { asks } from '../../lib/queries';
  import { longDay } from '../../lib/time';
  import { daysOf, twoTapes } from '../../lib/whatif';
  import Tape from '../Tape.svelte';
  import Trouble from '../Trouble.svelte';

  const { w }: { w: WhatIf } = $props();
  const days = $derived(daysOf(w));
  let wanted = $state(0);
  const at = $derived(Math.min(wanted, Math.max(0, days.length - 1)));
  const date = $derived(days[at]?.[0] ?? '');
  const changes = $derived(days[at]?.[1] ?? []);
  const begin = $derived(date ? startOf(date, w.zone) : new Date(0));
  const end = $derived(date ? startOf(addDays(date, 1), w.zone) : new Date(0));
  const day = createQuery(() => ({
    ...asks.forecast(
      date,
      w.zone,
      '',
      () => new Date(Math.max(begin.getTime() - 1000, Date.parse(w.from))),
      new Date(end.getTime() - 1000),
    ),
    enabled: date !== '',
  }));
  const tapes = $derived(
    twoTapes(
      (day.data?.rings ?? []).filter((r) => !r.passed),
      changes,
    ),
  );
  const dayOf = (upcoming: Day['upcoming']): Day => ({
    date,
    zone: w.zone,
    from: begin.toISOString(),
    to: end.toISOString(),
    now: new Date(now.ms).toISOString(),
    counts: {},
    runs: [],
    upcoming,
    next: [],
    attention: [],
    running: [],
  });
</script>

{#if date}
  <div class="mt-2.5 flex flex-wrap items-baseline gap-3">
    <h3 class="font-semibold">{longDay(begin, w.zone)}</h3>
    <span class="soft"
      >{changes.length} of its rings change{w.rings.length < 2000
        ? `; day ${at + 1} of ${days.length} that change`
        : ''}</span
    >
    <span class="flex-1"></span>
    <button class="btn" type="button" disabled={at === 0} onclick={() => (wanted = at - 1)}>Day before</button
    >
    <button class="btn" type="button" disabled={at >= days.length - 1} onclick={() => (wanted = at + 1)}
      >Next day that changes</button
    >
  </div>
  {#if day.isError}<Trouble error={day.error} />{/if}
  {#if day.data}
    <div class="mt-1 grid grid-cols-[7.500rem_1fr] items-center gap-x-2 gap-y-1 max-sm:grid-cols-1">
      <span class="soft text-[13px]">As it is</span>
      <Tape day={dayOf(tapes.was)} legend={false} hours={false} label="The day as it is" />
      <span class="text-[13px]">As it would be</span>
      <Tape day={dayOf(tapes.will)} legend={false} label="The day as it would be" />
    </div>
  {:else}<div class="panel h-11"></div>{/if}
{/if}
