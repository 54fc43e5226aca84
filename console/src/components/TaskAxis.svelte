<script lang="ts">
  // The tasks of a run on a time axis: each attempt as long as it took, the
  // waits between them dotted.
  import type { RunPage } from '../lib/api';
  import { now } from '../lib/now.svelte';
  import { colour, toneOf } from '../lib/state';
  import { between, length } from '../lib/time';

  const { run }: { run: RunPage } = $props();
  let width = $state(1000);
  const left = 170;
  const right = 250;
  const row = 30;
  const names = $derived(
    run.tasks.length ? run.tasks.map((t) => t.name) : [...new Set(run.attempts.map((a) => a.task))],
  );
  const origin = $derived(run.attempts[0]?.started_at ?? run.started_at ?? run.due);
  // The hand-overs follow the tasks: from the first that was written to the last that was settled.
  const hands = $derived.by(() => {
    const all = run.deliveries;
    const first = all.map((d) => d.created_at).sort()[0];
    if (!first) return null;
    const open = all.some((d) => !d.settled_at);
    const last = open ? now.ms : Math.max(...all.map((d) => Date.parse(d.settled_at ?? d.created_at)));
    const sent = all.filter((d) => d.state === 'sent').length;
    const tries = Math.max(...all.map((d) => d.tries));
    const state = open ? 'delivering' : sent === all.length ? 'sent' : sent ? 'partly' : 'failed';
    return {
      from: between(origin, first),
      to: between(origin, last),
      state,
      note: `${sent} of ${all.length} sent${tries > 1 ? `, ${tries} tries` : ''}`,
    };
  });
  const total = $derived(
    Math.max(0.05, hands?.to ?? 0, ...run.attempts.map((a) => between(origin, a.ended_at ?? now.ms))),
  );
  const scale = $derived(Math.max(50, width - left - right) / total);
  const ticks = $derived(Array.from({ length: 5 }, (_, i) => (i * total) / 4));
  const rowCount = $derived(names.length + (hands ? 1 : 0));
  const bars = $derived(
    names.map((name) => {
      const tries = run.attempts.filter((a) => a.task === name);
      return {
        name,
        tries: tries.map((a) => ({
          a,
          x: left + between(origin, a.started_at) * scale,
          w: Math.max(3, between(a.started_at, a.ended_at ?? now.ms) * scale),
        })),
        note: noteOf(tries),
      };
    }),
  );

  function noteOf(tries: RunPage['attempts']): string {
    const last = tries.at(-1);
    if (!last) return run.ended_at ? 'was not reached' : '';
    const parts = [];
    if (last.rows !== undefined) parts.push(`${last.rows.toLocaleString('en-GB')} rows`);
    else if (last.state === 'done') parts.push(last.note ?? '');
    else parts.push(last.state);
    if (tries.length > 1) parts.push(`try ${last.try}`);
    return parts.filter(Boolean).join(', ');
  }
</script>

<div class="panel px-3.5 py-3" bind:clientWidth={width}>
  <svg
    width={width - 30}
    height={rowCount * row + 26}
    class="block"
    role="img"
    aria-label="Tasks over time: {bars.map((b) => `${b.name} ${b.note}`).join('; ')}"
  >
    {#each ticks as t (t)}
      {@const x = left + t * scale}
      <line x1={x} x2={x} y1="0" y2={rowCount * row} stroke="var(--color-base-300)" />
      <text {x} y={rowCount * row + 18} font-size="11.5" fill="var(--color-neutral)" text-anchor="middle"
        >+{length(t)}</text
      >
    {/each}
    {#each bars as b, i (b.name)}
      {@const y = i * row + 6}
      <text x="0" y={y + 13} font-size="13" font-weight="600" fill="currentColor">{b.name.slice(0, 24)}</text>
      {#each b.tries as t, n (t.a.try)}
        {@const before = b.tries[n - 1]}
        {#if before}
          <line
            x1={before.x + before.w}
            x2={t.x}
            y1={y + 8}
            y2={y + 8}
            stroke="var(--color-warning)"
            stroke-width="2"
            stroke-dasharray="3 4"
          />
        {/if}
        <rect x={t.x} {y} width={t.w} height="16" rx="2" fill={colour[toneOf(t.a.state)]}>
          <title>{b.name}, try {t.a.try}: {t.a.state}</title>
        </rect>
      {/each}
      {@const last = b.tries.at(-1)}
      <text x={last ? last.x + last.w + 6 : left} y={y + 13} font-size="11.5" fill="var(--color-neutral)"
        >{b.note}</text
      >
    {/each}
    {#if hands}
      {@const y = names.length * row + 6}
      {@const x = left + hands.from * scale}
      {@const w = Math.max(3, (hands.to - hands.from) * scale)}
      <text x="0" y={y + 13} font-size="13" font-weight="600" fill="currentColor">deliveries</text>
      <rect {x} y={y + 4} width={w} height="8" rx="2" fill={colour[toneOf(hands.state)]} />
      <text x={x + w + 6} y={y + 13} font-size="11.5" fill="var(--color-neutral)">{hands.note}</text>
    {/if}
  </svg>
</div>
