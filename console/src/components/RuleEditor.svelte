<script lang="ts">
  // The editor of one trigger's timing: while one types, the reading, the
  // warnings, the next rings and the coming months follow.
  import { createQuery } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import type { Ahead, Timing } from '../lib/api';
  import { asks } from '../lib/queries';
  import { dateIn, monthsFrom } from '../lib/month';
  import { now } from '../lib/now.svelte';
  import { zoneWord } from '../lib/time';
  import RuleBounds from './RuleBounds.svelte';
  import RuleText from './RuleText.svelte';
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

  let caret = $state([...timing.rule].length);
  type Asked = { timing: Timing; caret: number };
  let asked = $state(untrack(() => JSON.stringify({ timing, caret })));
  $effect(() => {
    const text = JSON.stringify({ timing, caret });
    const timer = setTimeout(() => (asked = text), 150);
    return () => clearTimeout(timer);
  });
  const question = $derived(JSON.parse(asked) as Asked);
  const said = createQuery(() => asks.when(question.timing, zone, calendars, question.caret));
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

<div class="@container">
  <div class="grid gap-4 @7xl:grid-cols-[minmax(0,1fr)_45rem]">
    <div class="flex min-w-0 flex-col gap-2.5">
      <RuleText
        rule={timing.rule}
        write={(rule) => set('rule', rule)}
        bind:caret
        goesOn={when?.goes_on ?? []}
        wrong={wrong?.field === 'rule'}
        said="{id}-said"
        {path}
      />
      <div id="{id}-said" aria-live="polite" class="flex min-h-16 flex-col gap-1.5">
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
    <div class="flex min-h-64 flex-wrap content-start items-start gap-4">
      {#if when && !wrong}
        <div class="min-w-52">
          <h2>Next rings</h2>
          {#each when.fires as f (f.at)}
            <div class={f.passed ? 'soft line-through' : ''} title={f.reason}>
              <ZonedTime at={f.at} zone={when.zone} />{#if f.nominal}<span class="soft ml-1.5">moved</span
                >{/if}
            </div>
            {#if f.reason}<div class="soft max-w-64 pb-1 text-[12px]">{f.reason}</div>{/if}
          {:else}<p class="soft">None.</p>{/each}
        </div>
        {#each months as [y, m] (`${y}-${m}`)}<MonthGrid year={y} month={m} {days} {doubts} />{/each}
      {:else if timing.rule.trim()}<p class="soft">Its rings are shown when the rule can be read.</p>{/if}
    </div>
  </div>
</div>
