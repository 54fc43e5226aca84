<script lang="ts">
  // The tape: a day as a strip, every run a mark where it began and as long as
  // it took, what is to come drawn hollow. By keyboard the arrows go from mark
  // to mark; a screen reader reads it as a list.
  import type { Day, Expected } from '../lib/api';
  import { now } from '../lib/now.svelte';
  import { toneOf } from '../lib/state';
  import { layTape, type Shown, type TapeMark } from '../lib/tape';
  import { clock, length, wall } from '../lib/time';
  import StateMark from './StateMark.svelte';
  import TapeShape from './TapeShape.svelte';

  // A small one shows a day among others: flat, without a legend, and with its
  // hours only where they are asked for.
  const {
    day,
    small = false,
    legend = !small,
    hours: withHours = true,
    label = "The day's runs",
    expected = [],
  }: {
    day: Omit<Day, 'upcoming'> & { upcoming: Shown[] };
    small?: boolean;
    legend?: boolean;
    hours?: boolean;
    label?: string;
    /** what usually comes by an hour of its own, and not by a rule */
    expected?: Expected[];
  } = $props();
  let width = $state(1000);
  let at = $state(0);
  const inset = 8;
  const lane = $derived(small ? 9 : 15);
  const thick = $derived(small ? 7 : 11);
  const inner = $derived(Math.max(200, width - 2 * inset));
  const marks = $derived(layTape(day, inner));
  const lanes = $derived(Math.max(small ? 3 : 4, 1 + marks.reduce((n, m) => Math.max(n, m.lane), 0)));
  const height = $derived(lanes * lane + 10);
  const floor = $derived(height - 2);
  const start = $derived(new Date(day.from).getTime());
  const end = $derived(new Date(day.to).getTime());
  const here = $derived(inset + (Math.min(Math.max((now.ms - start) / (end - start), 0), 1) || 0) * inner);
  const isToday = $derived(now.ms >= start && now.ms < end);
  // On a narrow screen the words of every third hour would run into each other.
  const step = $derived(width < 480 ? 6 : 3);
  const hours = $derived(Array.from({ length: 24 / step + 1 }, (_, i) => i * step));
  // Failures lie on top: they are what must be seen.
  const drawn = $derived([...marks.keys()].sort((a, b) => weight(marks[a]) - weight(marks[b])));
  const shown = [
    'done',
    'failed',
    'partly',
    'blank',
    'running',
    'delivering',
    'waiting',
    'cancelled',
    'passed over',
  ];

  function weight(m: TapeMark | undefined): number {
    const tone = m && m.state !== 'to come' ? toneOf(m.state) : 'slate';
    return { slate: 0, done: 1, run: 2, wait: 3, fail: 4 }[tone];
  }

  function say(m: TapeMark): string {
    if (m.count > 1)
      return `${m.job}: ${m.count} rings ${m.state === 'to come' ? 'to come' : m.state}, from ${wall(m.at, day.zone)}`;
    const took =
      m.seconds === null
        ? ''
        : m.state === 'to come'
          ? `, usually ${length(m.seconds)}`
          : `, took ${length(m.seconds)}`;
    return `${m.job}: ${m.state}, ${wall(m.at, day.zone)}${took}${m.reason ? `. ${m.reason}` : ''}`;
  }

  function move(event: KeyboardEvent, i: number) {
    const to = { ArrowRight: i + 1, ArrowLeft: i - 1, Home: 0, End: marks.length - 1 }[event.key];
    if (to === undefined || to < 0 || to >= marks.length) return;
    event.preventDefault();
    at = to;
    const list = (event.currentTarget as SVGElement).closest('svg');
    list?.querySelector<SVGElement>(`[data-i="${to}"]`)?.focus();
  }
</script>

<section class="panel px-3 {small ? 'pt-1' : 'pt-2.5 pb-2'}" aria-label={label}>
  <div bind:clientWidth={width}>
    <svg {width} height={height + (withHours ? 22 : 3)} class="block">
      {#if isToday}
        <rect x={inset} y="2" width={here - inset} height={floor - 2} fill="var(--color-base-200)" />
      {/if}
      {#each hours as h (h)}
        {@const x = inset + (h / 24) * inner}
        <line x1={x} x2={x} y1="2" y2={floor + 4} stroke="var(--color-base-300)" />
        {#if withHours}
          <text
            {x}
            y={height + 16}
            font-size="11.5"
            fill="var(--color-neutral)"
            text-anchor={h === 0 ? 'start' : h === 24 ? 'end' : 'middle'}
            >{h === 24 ? '24:00' : clock(start + (h / 24) * (end - start), day.zone)}</text
          >
        {/if}
      {/each}
      <line x1={inset} x2={width - inset} y1={floor} y2={floor} stroke="var(--color-neutral)" />
      <g role="list" aria-label="Runs and rings of the day">
        {#each drawn as i (marks[i]?.key)}
          {@const m = marks[i]}
          {#if m}
            {@const x = inset + m.x}
            {@const y = floor - thick - 2 - m.lane * lane}
            <g role="listitem">
              <a
                href={m.href || undefined}
                data-i={i}
                data-mark={m.state}
                tabindex={i === at ? 0 : -1}
                aria-label={say(m)}
                onkeydown={(e) => move(e, i)}
              >
                <title>{say(m)}</title>
                <TapeShape {m} {x} {y} {thick} />
              </a>
            </g>
          {/if}
        {/each}
      </g>
      {#each expected as e (`${e.job} ${e.reading} ${e.by}`)}
        {@const x = inset + ((new Date(e.by).getTime() - start) / (end - start)) * inner}
        <circle
          role="img"
          data-mark="expected"
          cx={x}
          cy={floor}
          r="4"
          fill="var(--color-base-100)"
          stroke="var(--color-primary)"
          stroke-width="1.5"
          aria-label="{e.job} waits for {e.reading}: {e.why}"
        >
          <title>{e.job} waits for {e.reading}: {e.why}</title>
        </circle>
      {/each}
      {#if isToday}
        <line x1={here} x2={here} y1="0" y2={floor + 4} stroke="var(--color-primary)" stroke-width="2" />
      {/if}
    </svg>
  </div>
  {#if legend}
    <div class="flex flex-wrap items-baseline gap-x-6 gap-y-1 pt-1.5 pl-2">
      {#each shown as state (state)}
        {#if day.counts[state]}<StateMark {state} word="{day.counts[state]} {state}" />{/if}
      {/each}
      <span class="soft">{day.upcoming.length} to come</span>
      <span class="flex-1"></span>
      {#if day.lateness_seconds !== undefined}
        <span
          class="soft"
          title="Half of the runs that a rule rang started within this time after they were due"
          >Median lateness {day.lateness_seconds < 0.1 ? 'under 0.1 s' : length(day.lateness_seconds)}</span
        >
      {/if}
    </div>
  {/if}
</section>
