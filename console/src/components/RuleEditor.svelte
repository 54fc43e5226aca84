<script lang="ts">
  // The editor of one trigger's timing: while one types, the reading, the
  // warnings, the next rings and the coming months follow.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Ahead, Timing } from '../lib/api';
  import { asks } from '../lib/queries';
  import { dateIn, monthsFrom } from '../lib/month';
  import { now } from '../lib/now.svelte';
  import { zoneWord } from '../lib/time';
  import RuleBounds from './RuleBounds.svelte';
  import MonthGrid, { type GridDay } from './MonthGrid.svelte';
  import Trouble from './Trouble.svelte';
  import ZonedTime from './ZonedTime.svelte';

  let {
    timing = $bindable(),
    zone,
    calendars = [],
    path = '',
    covered,
  }: {
    timing: Timing;
    zone: string;
    calendars?: string[];
    path?: string; // of the trigger, for the flags of an editor
    covered?: NonNullable<Ahead['covered']>[number]; // days that come into no report, or into two
  } = $props();

  const presets: [string, string][] = [
    ['Weekdays', 'on weekdays at 06:15'],
    ['Every hour', 'every hour at :05'],
    ['Window', 'on open days between 06:00 and 22:00, every 15 minutes'],
    ['1st and 15th', 'on day 1 and 15 of every month at 02:00'],
    ['Month end', 'on the last open day of every month at 18:00'],
    ['First Monday', 'on the first monday of every month at 18:15'],
    ['Quarter end', 'on the last open day of every quarter at 18:00'],
    ['Once', `once on ${dateIn(Date.now() + 86_400_000, 'UTC')} at 14:00`],
    ['Cron', '15 6 * * 1-5'],
  ];
  let asked = $state(JSON.stringify(timing));
  $effect(() => {
    const text = JSON.stringify(timing);
    const timer = setTimeout(() => (asked = text), 150);
    return () => clearTimeout(timer);
  });
  const said = createQuery(() => asks.when(JSON.parse(asked) as Timing, zone, calendars));
  const when = $derived(said.data);
  const wrong = $derived(when?.wrong);
  const months = $derived(monthsFrom(dateIn(now.ms, when?.zone ?? zone), 2));
  const days = $derived(
    Object.fromEntries(
      (when?.days ?? []).map((d): [string, GridDay] => {
        const tone = d.rings === 0 ? 'passed' : d.moved ? 'moved' : 'ring';
        const count = d.rings === 1 ? 'rings once' : `rings ${d.rings} times`;
        return [
          d.date,
          {
            tone,
            count: d.rings,
            text: (d.rings ? count : 'passed over') + (d.reason ? `: ${d.reason}` : ''),
          },
        ];
      }),
    ),
  );
  const doubts = $derived(
    Object.fromEntries([
      ...(covered?.missed ?? []).map((d): [string, string] => [d, 'comes into no report']),
      ...(covered?.several ?? []).map((d): [string, string] => [d, 'comes into two reports']),
    ]),
  );
  const id = $props.id();

  function set<K extends keyof Timing>(key: K, value: Timing[K] | '' | 0 | undefined) {
    const empty = value === '' || value === 0 || (Array.isArray(value) && value.length === 0);
    // A rule that is cleared is an empty one.
    timing = { ...timing, [key]: empty && key !== 'rule' ? undefined : value };
  }

  /** Puts a word that was meant in place of the one that was found. */
  function correct(column: number, meant: string) {
    const before = timing.rule.slice(0, column - 1);
    const rest = timing.rule.slice(column - 1).replace(/^[^\s,;]+/, meant);
    set('rule', before + rest);
  }
</script>

<div class="grid grid-cols-[1fr_auto] gap-4 max-xl:grid-cols-1">
  <div class="flex min-w-0 flex-col gap-2.5">
    <div data-path={path ? `${path}.rule` : undefined}>
      <label for="{id}-rule" class="soft text-[13px]">Rule, in words, as cron or as iCalendar</label>
      <textarea
        id="{id}-rule"
        class="textarea bg-base-100 mono min-h-14 w-full"
        rows="2"
        spellcheck="false"
        aria-invalid={wrong?.field === 'rule'}
        aria-describedby="{id}-said"
        value={timing.rule}
        oninput={(e) => set('rule', e.currentTarget.value)}></textarea>
      <div class="flex flex-wrap gap-1.5 pt-1" aria-label="Presets" role="group">
        {#each presets as [word, rule] (word)}
          <button type="button" class="chip" onclick={() => set('rule', rule)}>{word}</button>
        {/each}
      </div>
    </div>
    <div id="{id}-said" aria-live="polite" class="flex flex-col gap-1.5">
      {#if timing.rule.trim() === ''}
        <p class="soft">Write when it rings, or begin with a preset.</p>
      {:else if said.isError}
        <Trouble error={said.error} />
      {:else if wrong}
        <div class="border-error/50 rounded border p-2">
          {#if wrong.column}
            <pre class="mono overflow-x-auto">{timing.rule.split('\n')[
                timing.rule.slice(0, wrong.column - 1).split('\n').length - 1
              ]}
{' '.repeat(
                timing.rule
                  .slice(0, wrong.column - 1)
                  .split('\n')
                  .pop()?.length ?? 0,
              )}<span class="text-error font-bold">^</span></pre>
          {/if}
          <p class="text-error">
            <b>{wrong.column ? `Column ${wrong.column}` : wrong.field}</b>: {wrong.sentence}
            {#if wrong.meant && wrong.column}
              <button
                type="button"
                class="chip ml-1"
                onclick={() => correct(wrong.column ?? 1, wrong.meant ?? '')}>Write “{wrong.meant}”</button
              >
            {/if}
          </p>
          {#each wrong.offers ?? [] as offer (offer)}
            <button type="button" class="chip mt-1 mr-1" onclick={() => set('rule', offer)}
              >Write “{offer}”</button
            >
          {/each}
        </div>
      {:else if when}
        <p class="text-[15px]">
          <b class="inline-block first-letter:uppercase">{when.reading}</b>
          <span class="soft">in {zoneWord(when.zone)}; it rings {when.often}.</span>
        </p>
        {#if covered}
          <p class="text-warning">
            <span aria-hidden="true">▲</span> <b>{covered.says}</b> Let it ring for these days, too, or take more
            days at a ring, such as from “previous open day” to “yesterday”; if it is meant so, leave it.
          </p>
        {/if}
        {#each when.warnings as w (w)}
          <p class="text-warning">
            <span aria-hidden="true">▲</span><span class="sr-only">Warning:</span>
            {w}
          </p>
        {/each}
      {/if}
    </div>
    <RuleBounds {timing} {set} {path} />
  </div>
  {#if when && !wrong}
    <div class="flex flex-wrap items-start gap-4">
      <div class="min-w-52">
        <h2>Next rings</h2>
        {#each when.fires as f (f.at)}
          <div class={f.passed ? 'soft line-through' : ''} title={f.reason}>
            <ZonedTime at={f.at} zone={when.zone} />{#if f.nominal}<span class="soft ml-1.5">moved</span>{/if}
          </div>
          {#if f.reason}<div class="soft max-w-64 pb-1 text-[12px]">{f.reason}</div>{/if}
        {:else}<p class="soft">None.</p>{/each}
      </div>
      {#each months as [y, m] (`${y}-${m}`)}<MonthGrid year={y} month={m} {days} {doubts} />{/each}
    </div>
  {/if}
</div>
