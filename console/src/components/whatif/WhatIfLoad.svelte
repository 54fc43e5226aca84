<script lang="ts">
  // The load that a change makes, beside the load as it is, and the clashes that come or end.
  import type { Load, WhatIf } from '../../lib/api';
  import { clock, day } from '../../lib/time';

  const { w }: { w: WhatIf } = $props();
  const number = (n: number) => n.toLocaleString('en-GB');
  const hour = (l: Load) =>
    l.hour ? `${number(l.most)}, ${day(l.hour, w.zone)} ${clock(l.hour, w.zone)}` : 'none';
  const rows = $derived(
    (
      [
        ['Rings', (l) => number(l.rings)],
        ['In the busiest hour', hour],
        ['Most runs at work at once', (l) => `${l.working} of ${w.at_once}`],
        ['Join a run that waits', (l) => number(l.joined)],
        ['Begin later than they might', (l) => number(l.waiting)],
        ['Do not begin as far as can be seen', (l) => number(l.stuck)],
        ['Miss their deadline', (l) => number(l.late)],
        ['Clashes', (l) => number(l.clashes)],
      ] as [string, (l: Load) => string][]
    )
      .map(([word, of]) => ({ word, of, was: of(w.before), will: of(w.after) }))
      .filter((r) => r.was !== r.will && (r.of !== hour || w.before.most !== w.after.most)),
  );
  const clashWords = {
    new: 'A new clash',
    ends: 'A clash that ends',
    worse: 'A clash becomes worse',
    milder: 'A clash becomes milder',
  };
</script>

{#if rows.length}
  <table class="grid-list mt-2.5 max-w-2xl">
    <thead
      ><tr
        ><th>The load</th><th class="!text-right">As it is</th><th class="!text-right">As it would be</th></tr
      ></thead
    >
    <tbody>
      {#each rows as r (r.word)}
        <tr
          ><td>{r.word}</td><td class="!text-right">{r.was}</td><td class="!text-right"><b>{r.will}</b></td
          ></tr
        >
      {/each}
    </tbody>
  </table>
{/if}
{#each w.clashes.slice(0, 5) as c (c.what + c.from)}
  <p class="mt-1 text-[13px]">
    <b>{clashWords[c.what]}</b>: {day(c.from, w.zone)}
    {clock(c.from, w.zone)} to {clock(c.to, w.zone)}, {c.most} runs at work at once{c.what === 'worse' ||
    c.what === 'milder'
      ? `, ${c.was} as it is`
      : ''}: {c.jobs.join(', ')}
  </p>
{/each}
