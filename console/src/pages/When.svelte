<script lang="ts">
  // A place to try rules out. The address holds the rule, so that it can be sent.
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import { untrack } from 'svelte';
  import RuleEditor from '../components/RuleEditor.svelte';
  import { type Timing } from '../lib/api';
  import { asks } from '../lib/queries';
  import { myZone } from '../lib/me.svelte';

  const zones = createQuery(() => asks.zones());
  const all = createQuery(() => asks.calendars());
  let timing = $state<Timing>({
    rule: untrack(() => String(searchParams.get('rule') ?? 'on weekdays at 06:15')),
  });
  let zone = $state(untrack(() => String(searchParams.get('zone') ?? myZone())));
  let calendar = $state(untrack(() => String(searchParams.get('calendar') ?? '')));
  $effect(() => {
    const values = { rule: timing.rule, zone, calendar };
    untrack(() => {
      for (const [key, value] of Object.entries(values)) {
        if (value) searchParams.set(key, value, { replace: true });
        else searchParams.delete(key, undefined, { replace: true });
      }
    });
  });
</script>

<svelte:head><title>Try a rule · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-3.5">
  <h1>Try a rule</h1>
  <label class="flex items-center gap-2 text-[13px]"
    >Zone
    <select class="select select-sm bg-base-100 w-52" bind:value={zone}>
      {#each zones.data ?? [zone] as z (z)}<option value={z}>{z}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2 text-[13px]"
    >Calendar
    <select class="select select-sm bg-base-100 w-52" bind:value={calendar}>
      <option value="">none: Monday to Friday</option>
      {#each all.data ?? [] as c (c.name)}<option value={c.name}>{c.name}</option>{/each}
    </select>
  </label>
</div>
<section class="panel px-3.5 py-3">
  <RuleEditor bind:timing {zone} calendars={calendar ? [calendar] : []} />
</section>
<section class="panel px-3.5 py-2.5">
  <h2>What can be written</h2>
  <dl class="grid grid-cols-[minmax(14rem,auto)_1fr] gap-x-5 gap-y-1 max-md:grid-cols-1">
    {#each [['Days', 'every day · on weekdays · on mon, wed and fri · on mon to thu · on weekends'], ['Days of the month', 'on day 1 and 15 of every month · on the last day of every month · on the 2nd to last day'], ['Weekdays of the month', 'on the first monday of every month · on the last friday of every quarter'], ['Open days', 'on open days · on open day 3 of every month · on the last open day of every year'], ['Months and weeks', 'in jan, apr and jul · in june to august · in week 20'], ['Times', 'at 06:00 · at 08:00 and 17:00 · every hour at :05 · every 15 minutes between 06:00 and 22:00'], ['Intervals', 'every 2 days from 2026-08-25 · every 2 weeks on mon from 2026-01-05'], ['Ends', 'from 2026-12-01 · until 2027-03-31 · ending after 12 rings'], ['Closed days', 'skip closed days · before closed days · after closed days'], ['Several conditions', 'on day 13 of every month if fri · on day 13 of every month or on fri'], ['Single dates', 'once on 2026-12-01 at 14:00 · also on 2026-12-24 at 12:00 · except on 2026-12-25']] as [what, how] (what)}
      <dt class="soft">{what}</dt>
      <dd class="mono">{how}</dd>
    {/each}
  </dl>
</section>
