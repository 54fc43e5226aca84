<script lang="ts" module>
  export type GridDay = { tone: 'ring' | 'moved' | 'passed' | 'closed'; count?: number; text: string };
</script>

<script lang="ts">
  // A month as a grid of days. What happens on a day has a shape and a word, not
  // only a colour: a filled square rings, a framed one was moved there, a struck
  // one is passed over or closed.
  import { monthDays, monthName } from '../lib/month';

  const {
    year,
    month,
    days,
    doubts = {},
  }: {
    year: number;
    month: number;
    days: Record<string, GridDay>;
    doubts?: Record<string, string>; // what is doubtful about a date, which is underlined
  } = $props();
  const weeks = $derived(monthDays(year, month));
  const names = ['Mo', 'Tu', 'We', 'Th', 'Fr', 'Sa', 'Su'];
  const look = {
    ring: 'bg-secondary text-secondary-content font-semibold',
    moved: 'border-secondary-content text-secondary-content border-2 font-semibold',
    passed: 'text-neutral line-through',
    closed: 'bg-base-300 text-neutral line-through',
  };
</script>

<table class="text-[12.5px]" aria-label={monthName(year, month)}>
  <caption class="soft pb-1 text-left text-[12.5px] font-semibold">{monthName(year, month)}</caption>
  <thead
    ><tr
      >{#each names as n (n)}<th class="soft w-8 pb-0.5 text-center font-normal">{n}</th>{/each}</tr
    ></thead
  >
  <tbody>
    {#each weeks as week, i (i)}
      <tr>
        {#each week as date, k (k)}
          {@const d = date ? days[date] : undefined}
          <td class="h-7 w-8 p-px text-center">
            {#if date}
              <span
                class="flex h-full items-center justify-center rounded-[4px] {d ? look[d.tone] : ''} {doubts[
                  date
                ]
                  ? 'border-warning border-b-3 border-dotted'
                  : ''}"
                title={[d?.text, doubts[date]].filter(Boolean).join('; ')}
                >{Number(date.slice(8))}{#if d}<span class="sr-only">: {d.text}</span
                  >{/if}{#if doubts[date]}<span class="sr-only">: {doubts[date]}</span>{/if}</span
              >
            {/if}
          </td>
        {/each}
      </tr>
    {/each}
  </tbody>
</table>
