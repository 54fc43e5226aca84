<script lang="ts">
  // What a calendar has and the file that was read has not: it stays, until somebody takes it out.
  import type { CalendarEntry } from '../lib/api';

  const { missing, ontake }: { missing: CalendarEntry[]; ontake: () => void } = $props();
  const one = $derived(missing.length === 1);
</script>

{#if missing.length}
  <p role="status">
    {one ? '1 closed day' : `${missing.length} closed days`} of this calendar {one ? 'is' : 'are'} not in the file,
    and {one ? 'stays' : 'stay'}: {missing
      .map((e) => e.label || e.date || e.rule)
      .slice(0, 8)
      .join(', ')}.
    <button class="edit-link" onclick={ontake}>Take {one ? 'it' : 'them'} out</button>
  </p>
{/if}
