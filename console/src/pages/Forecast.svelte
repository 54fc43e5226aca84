<script lang="ts">
  import { createQueries } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import ForecastExpected from '../components/ForecastExpected.svelte';
  import ForecastFeed from '../components/ForecastFeed.svelte';
  import Tape from '../components/Tape.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { type Day, type Forecast } from '../lib/api';
  import { asks } from '../lib/queries';
  import { myZone } from '../lib/me.svelte';
  import { addDays, dateIn, startOf } from '../lib/month';
  import { now } from '../lib/now.svelte';
  import { clock, day, longDay, zoneWord } from '../lib/time';
  import { p } from '../router';

  const zone = myZone();
  const today = dateIn(Date.now(), zone);
  const from = $derived(String(searchParams.get('from') ?? today));
  const part = $derived(String(searchParams.get('job') ?? ''));
  const dates = $derived(Array.from({ length: 7 }, (_, i) => addDays(from, i)));
  const week = createQueries(() => ({
    queries: dates.map((date) => {
      const begin = startOf(date, zone).getTime();
      const end = new Date(startOf(addDays(date, 1), zone).getTime() - 1000);
      // A forecast tells what comes after an instant; midnight belongs to the day.
      const from = () => new Date(Math.max(begin - 1000, date === today ? Date.now() : 0));
      return asks.forecast(date, zone, part, from, end);
    }),
  }));
  const loaded = $derived(week.map((q) => q.data).filter((d): d is Forecast => d !== undefined));
  const failed = $derived(week.find((q) => q.isError)?.error);
  const total = $derived(loaded.reduce((n, d) => n + d.total, 0));
  const moved = $derived(loaded.flatMap((d) => d.rings.filter((r) => r.reason)));
  const shown = $derived.by(() => {
    // Rings of one job that one closed day passes over are one line.
    const lines: { key: string; first: (typeof moved)[number]; count: number }[] = [];
    for (const r of moved) {
      const key = `${r.job}|${r.passed ? r.reason?.replace(/^\d\d:\d\d/, '') : r.at}`;
      const line = lines.find((l) => l.key === key);
      if (line) line.count += 1;
      else lines.push({ key, first: r, count: 1 });
    }
    return lines;
  });
  // Jobs that ring all day long would fill every tape; they are named instead.
  const allDay = $derived.by(() => {
    const often: Record<string, string> = {};
    for (const d of loaded) {
      const count: Record<string, number> = {};
      for (const r of d.rings) {
        const n = (count[r.job] ?? 0) + 1;
        count[r.job] = n;
        if (n > 48) often[r.job] = r.reading;
      }
    }
    return new Map(Object.entries(often));
  });
  const late = $derived(loaded.flatMap((d) => d.rings.filter((r) => r.waits && !r.joins && !r.passed)));
  const clashes = $derived(loaded.flatMap((d) => d.clashes));
  const busiest = $derived(
    loaded
      .flatMap((d) => d.minutes)
      .sort((a, b) => b.rings - a.rings)
      .slice(0, 5),
  );
  function dayOf(date: string, f: Forecast): Day {
    return {
      date,
      zone,
      from: startOf(date, zone).toISOString(),
      to: startOf(addDays(date, 1), zone).toISOString(),
      now: new Date(now.ms).toISOString(),
      counts: {},
      runs: [],
      upcoming: f.rings.filter((r) => !r.passed && !allDay.has(r.job)),
      next: [],
      attention: [],
      running: [],
    };
  }

  function go(to: string) {
    if (to === today) searchParams.delete('from', undefined, { replace: true });
    else searchParams.set('from', to, { replace: true });
  }
</script>

<svelte:head><title>Forecast · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-3.5">
  <h1>Forecast</h1>
  <span class="soft">{total.toLocaleString('en-GB')} rings in seven days, in {zoneWord(zone)}</span>
  <label class="contents"
    ><span class="sr-only">Only jobs with this in their name</span>
    <input
      class="input input-sm bg-base-100 w-52"
      type="search"
      placeholder="Part of a job's name"
      value={part}
      oninput={(e) =>
        e.currentTarget.value
          ? searchParams.set('job', e.currentTarget.value, { replace: true })
          : searchParams.delete('job', undefined, { replace: true })}
    />
  </label>
  <span class="flex-1"></span>
  <button class="btn" onclick={() => go(addDays(from, -7))} disabled={from <= today}>Week before</button>
  <button class="btn" onclick={() => go(today)} disabled={from === today}>From today</button>
  <button class="btn" onclick={() => go(addDays(from, 7))}>Week after</button>
  <a class="btn" href={p('/when')}>Try a rule</a>
</div>
{#if failed}<Trouble error={failed} />{/if}
<section class="flex flex-col gap-1.5" aria-label="The week's tapes">
  {#each dates as date, i (date)}
    {@const f = week[i]?.data}
    <div class="grid grid-cols-[11.500rem_1fr] items-center gap-2 max-md:grid-cols-1">
      <div class="text-[13px]">
        <b>{date === today ? 'Today' : day(startOf(date, zone), zone)}</b>
        {#if f}
          <div class="soft">
            {f.total} rings{#if f.moved}, {f.moved} moved{/if}{#if f.passed}, {f.passed} passed over{/if}
          </div>
        {/if}
      </div>
      {#if f}<Tape
          day={dayOf(date, f)}
          small
          hours={i === 6}
          expected={f.expected}
          label={longDay(startOf(date, zone), zone)}
        />
      {:else}<div class="panel h-11"></div>{/if}
    </div>
  {/each}
  {#if allDay.size > 0}
    <p class="soft text-[13px]">
      Not drawn, since they ring all day: {#each [...allDay] as [job, reading], i (job)}{i ? '; ' : ''}<b
          >{job}</b
        >, {reading}{/each}.
    </p>
  {/if}
</section>
<div class="grid grid-cols-[1.4fr_1fr] gap-4 max-lg:grid-cols-1">
  <div class="flex flex-col gap-2.5">
    <ForecastExpected all={loaded.flatMap((d) => d.expected)} {zone} />
    <section class="panel px-3.5 py-2.5">
      <h2>Moved or passed over</h2>
      {#each shown.slice(0, 12) as line (line.key)}
        <div class="border-base-300 grid grid-cols-[11rem_1fr] gap-x-3 border-b py-1 last:border-0">
          <ZonedTime at={line.first.at} {zone} />
          <span
            ><a href={p('/jobs/:job', { params: { job: String(line.first.job_id) } })}>{line.first.job}</a>
            {line.first.passed ? 'does not ring' : 'rings here'}{line.count > 1
              ? `, ${line.count} times`
              : ''}:
            {line.first.reason}.</span
          >
        </div>
      {:else}<p class="soft">Nothing: every ring stands where its rule has it.</p>{/each}
      {#if shown.length > 12}<p class="soft pt-1">{shown.length - 12} more.</p>{/if}
    </section>
  </div>
  <div class="flex flex-col gap-2.5">
    <section class="panel px-3.5 py-2.5">
      <h2>Load</h2>
      {#each busiest as m (m.at)}
        <div class="flex justify-between">
          <ZonedTime at={m.at} {zone} /><span>{m.rings} rings at once</span>
        </div>
      {:else}<p class="soft">No minute has two rings.</p>{/each}
      {#each clashes.slice(0, 5) as c (c.from)}
        <p class="text-warning pt-1">
          <span aria-hidden="true">▲</span>
          <ZonedTime at={c.from} {zone} /> to {clock(c.to, zone, true)}: {c.most} runs at work, more than the {loaded[0]
            ?.at_once} at once: {c.jobs.join(', ')}.
        </p>
      {:else}<p class="soft pt-1">
          At their usual pace never more runs are at work than the {loaded[0]?.at_once ?? ''} at once.
        </p>{/each}
      {#each late.slice(0, 6) as r (`${r.job} ${r.at} ${r.reading}`)}
        <p class="pt-1">
          {r.job}, <ZonedTime at={r.at} {zone} />{#if r.begins}, begins <ZonedTime
              at={r.begins}
              {zone}
            />{/if}:
          <span class="soft">{r.waits}.</span>
        </p>
      {/each}
      {#if late.length > 6}<p class="soft pt-1">{late.length - 6} more wait.</p>{/if}
    </section>
    <ForecastFeed />
  </div>
</div>
