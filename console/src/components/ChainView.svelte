<script lang="ts">
  // A chain, drawn: tasks as tickets, forged links between them, conditions as collars on the
  // links. On a run each ticket says what came of it.
  import { Graph, layout } from '@dagrejs/dagre';
  import { links, type ChainTask } from '../lib/editing/chain';
  import StateMark from './StateMark.svelte';

  type Shown = ChainTask & { says?: string };
  const {
    tasks,
    outcomes = {},
    selected = '',
    select,
    join,
    press,
  }: {
    tasks: Shown[];
    outcomes?: Record<string, string>; // a state for each task
    selected?: string;
    select?: (task: string) => void;
    join?: (from: string, to: string) => void; // a link was drawn
    press?: (key: string, task: string) => boolean; // a key on a task; whether it meant something
  } = $props();

  const wide = 168;
  const high = 58;
  const drawn = $derived.by(() => {
    const g = new Graph();
    g.setGraph({ rankdir: 'LR', nodesep: 22, ranksep: 74, marginx: 12, marginy: 6 });
    g.setDefaultEdgeLabel(() => ({}));
    for (const t of tasks) g.setNode(String(t.name), { width: wide, height: high });
    const all = links(tasks);
    for (const l of all) g.setEdge(l.from, l.to);
    layout(g);
    return {
      width: Number(g.graph().width ?? 0),
      height: Number(g.graph().height ?? 0),
      nodes: tasks.map((t) => ({ t, ...(g.node(String(t.name)) as { x: number; y: number }) })),
      links: all.map((l) => {
        const { points } = g.edge(l.from, l.to) as { points: { x: number; y: number }[] };
        const path = points.map((q, i) => `${i ? 'L' : 'M'}${q.x},${q.y}`).join(' ');
        const at = points[Math.floor(points.length / 2)] ?? { x: 0, y: 0 };
        return { ...l, path, at };
      }),
    };
  });
  const short = (text: string, n: number) => (text.length > n ? `${text.slice(0, n - 1)}…` : text);
  let pulled = $state.raw<{ from: string; x: number; y: number; over: string }>();
  /** Where a pointer is, in the measures of the drawing, and over which task. */
  function pull(e: PointerEvent, from: string) {
    const svg = (e.currentTarget as Element).closest('svg')?.getBoundingClientRect();
    if (!svg) return;
    const [x, y] = [e.clientX - svg.left, e.clientY - svg.top];
    const hit = drawn.nodes.find((n) => Math.abs(n.x - x) < wide / 2 && Math.abs(n.y - y) < high / 2);
    pulled = { from, x, y, over: hit && hit.t.name !== from ? String(hit.t.name) : '' };
  }
  function letGo() {
    if (pulled?.over) join?.(pulled.from, pulled.over);
    pulled = undefined;
  }
  function move(e: KeyboardEvent, name: string) {
    const all = drawn.links;
    const to =
      e.key === 'ArrowRight'
        ? all.find((l) => l.from === name)?.to
        : e.key === 'ArrowLeft'
          ? all.find((l) => l.to === name)?.from
          : undefined;
    if (!to) return;
    e.preventDefault();
    select?.(to);
    (e.currentTarget as Element)
      .closest('svg')
      ?.querySelector<SVGElement>(`[data-task="${CSS.escape(to)}"]`)
      ?.focus();
  }
</script>

{#snippet ticket(t: Shown, x: number, y: number)}
  <path
    d="M{x - wide / 2 + 8},{y - high / 2} H{x + wide / 2} V{y + high / 2 - 8} L{x + wide / 2 - 8},{y +
      high / 2} H{x - wide / 2} V{y - high / 2 + 8} Z"
    class="stroke-base-content/60 {selected === t.name ? 'fill-secondary' : 'fill-base-100'}"
    stroke-width={selected === t.name ? 2 : 1}
  />
  <circle cx={x - wide / 2 + 10} cy={y} r="3.5" class="fill-base-200 stroke-base-content/60" />
  <foreignObject x={x - wide / 2 + 20} y={y - high / 2 + 4} width={wide - 26} height={high - 6}>
    <div class="text-base-content text-[12.5px] leading-tight">
      <div class="truncate font-semibold">{t.name}</div>
      <div class="soft truncate">{t.says ?? t.kind}</div>
      {#if outcomes[String(t.name)]}<StateMark state={outcomes[String(t.name)] ?? ''} />{/if}
    </div>
  </foreignObject>
{/snippet}

<div class="bg-base-200 overflow-x-auto rounded p-1">
  <svg
    width={drawn.width}
    height={drawn.height}
    viewBox="0 0 {drawn.width} {drawn.height}"
    role="group"
    aria-label="The chain of {tasks.length} tasks"
  >
    {#each drawn.links as l (`${l.from} ${l.to}`)}
      <g>
        <title
          >{l.to} follows {l.from}{l.condition ? `, only if ${l.condition}` : ''}{l.evenFailed
            ? ', also if that failed'
            : ''}</title
        >
        <path
          d={l.path}
          class="stroke-base-content/70 fill-none"
          stroke-width={l.evenFailed ? 2 : 5}
          stroke-dasharray={l.evenFailed ? '6 5' : '11 4'}
          stroke-linecap="round"
        />
        {#if !l.evenFailed}<path
            d={l.path}
            class="stroke-base-200 fill-none"
            stroke-width="2"
            stroke-dasharray="11 4"
            stroke-linecap="round"
          />{/if}
        {#if l.condition}
          <foreignObject x={l.at.x - 46} y={l.at.y - 11} width="92" height="22">
            <div
              class="mono border-primary bg-base-100 text-base-content truncate rounded border px-1 text-center text-[11px] leading-[18px]"
              title={l.condition}
            >
              {short(l.condition, 14)}
            </div>
          </foreignObject>
        {/if}
      </g>
    {/each}
    {#each drawn.nodes as n (n.t.name)}
      {#if select}
        <g
          role="button"
          tabindex="0"
          data-task={n.t.name}
          aria-pressed={selected === n.t.name}
          class="cursor-pointer"
          onclick={() => select(String(n.t.name))}
          onkeydown={(e) => {
            if (e.key === 'Enter' || e.key === ' ') {
              e.preventDefault();
              select(String(n.t.name));
            } else if (!e.ctrlKey && !e.metaKey && !e.altKey && press?.(e.key, String(n.t.name)))
              e.preventDefault();
            else move(e, String(n.t.name));
          }}>{@render ticket(n.t, n.x, n.y)}</g
        >
        {#if join}
          <circle
            cx={n.x + wide / 2}
            cy={n.y}
            r="9"
            class="stroke-base-content/60 fill-base-100 hover:fill-secondary cursor-crosshair touch-none"
            role="presentation"
            onpointerdown={(e) => {
              e.currentTarget.setPointerCapture(e.pointerId);
              pull(e, String(n.t.name));
            }}
            onpointermove={(e) => pulled && pull(e, String(n.t.name))}
            onpointerup={letGo}
            onpointercancel={() => (pulled = undefined)}
            ><title>Draw a link from {n.t.name} to the task that follows it</title></circle
          >
        {/if}
      {:else}
        <g
          ><title>{n.t.name}{outcomes[String(n.t.name)] ? `: ${outcomes[String(n.t.name)]}` : ''}</title
          >{@render ticket(n.t, n.x, n.y)}</g
        >
      {/if}
    {/each}
    {#if pulled}
      {@const from = drawn.nodes.find((n) => n.t.name === pulled?.from)}
      {@const over = drawn.nodes.find((n) => n.t.name === pulled?.over)}
      {#if from}
        <line
          x1={from.x + wide / 2}
          y1={from.y}
          x2={over ? over.x - wide / 2 : pulled.x}
          y2={over ? over.y : pulled.y}
          class="{over ? 'stroke-primary' : 'stroke-base-content/70'} pointer-events-none"
          stroke-width="3"
          stroke-dasharray="4 4"
        />
      {/if}
    {/if}
  </svg>
</div>
