<script lang="ts">
  // One mark of the tape: each outcome has its shape and its colour.
  import { colour, toneOf } from '../lib/state';
  import type { TapeMark } from '../lib/tape';

  const { m, x, y, thick }: { m: TapeMark; x: number; y: number; thick: number } = $props();
  const tint = $derived(colour[toneOf(m.state)]);
</script>

{#if m.state === 'to come'}
  <rect
    {x}
    {y}
    width={m.width}
    height={thick}
    rx="1.500"
    fill="var(--color-base-100)"
    stroke="var(--color-neutral)"
    stroke-dasharray={m.count > 1 ? '2 3' : undefined}
  />
{:else if toneOf(m.state) === 'fail'}
  <rect {x} y={y + 3} width={m.width} height="8" fill={tint} />
  <path
    d="M{x + m.width / 2} {y - 4}l8 15h-16z"
    fill={tint}
    stroke="var(--color-base-100)"
    stroke-width="1"
  />
{:else if m.state === 'gone'}
  <rect
    {x}
    {y}
    width={m.width}
    height={thick}
    fill="var(--color-base-100)"
    stroke="var(--color-error)"
    stroke-dasharray="2 2"
  />
  <line
    x1={x - 2}
    x2={x + m.width + 2}
    y1={y + thick + 1}
    y2={y - 1}
    stroke="var(--color-error)"
    stroke-width="1.500"
  />
{:else if m.state === 'partly'}
  <path
    d="M{x + m.width / 2} {y - 1}l6.500 6.500-6.500 6.500-6.500-6.500z"
    fill={tint}
    stroke="var(--color-base-100)"
  />
{:else if toneOf(m.state) === 'slate'}
  <rect
    {x}
    y={y + 3}
    width={m.width}
    height="6"
    fill="var(--color-base-100)"
    stroke={tint}
    stroke-width="1.4"
  />
{:else if toneOf(m.state) === 'run'}
  <rect {x} {y} width={m.width} height={thick} fill={tint} />
{:else if m.state === 'waiting' || m.state === 'later' || m.state === 'joined'}
  <path
    d="M{x} {y}h{m.width}l-{m.width / 2} 5.500 {m.width / 2} 5.500h-{m.width}l{m.width / 2}-5.500z"
    fill={tint}
  />
{:else}
  <rect {x} {y} width={m.width} height="11" rx="1" fill={tint} />
{/if}
