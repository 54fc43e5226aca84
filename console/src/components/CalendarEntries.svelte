<script lang="ts">
  // The entries of a calendar of one kind, of which an administrator takes single ones out.
  import type { CalendarEntry } from '../lib/api';
  import { isAdministrator } from '../lib/me.svelte';

  const {
    title,
    entries,
    empty = '',
    ontake,
  }: {
    title: string;
    entries: CalendarEntry[];
    empty?: string;
    ontake: (left: CalendarEntry[]) => void;
  } = $props();
  const said = (e: CalendarEntry) =>
    [e.rule ? (e.rule.split('\n').pop() ?? '') : e.date, e.days && e.days > 1 ? `${e.days} days` : '']
      .filter(Boolean)
      .join(', ');
</script>

<section class="panel px-3.5 py-2.5">
  <h2>{title}</h2>
  <ul class="max-h-72 overflow-y-auto" tabindex="-1">
    {#each entries as e, i (i)}
      <li class="border-base-300 flex flex-wrap gap-x-3 border-b py-1 last:border-0">
        <span>{e.label || 'without a name'}</span><span class="mono soft">{said(e)}</span>
        <span class="flex-1"></span>
        {#if isAdministrator()}<button
            class="text-error cursor-pointer text-[13px] underline"
            aria-label="Remove {e.label}"
            onclick={() => ontake(entries.filter((_, k) => k !== i))}>Remove</button
          >{/if}
      </li>
    {:else}<li class="soft">{empty}</li>{/each}
  </ul>
</section>
