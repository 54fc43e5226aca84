<script lang="ts">
  // What a change of a calendar would do to the rings of the jobs that go by it.
  import type { CalendarEffect } from '../lib/api';
  import ZonedTime from './ZonedTime.svelte';

  const { effects }: { effects: CalendarEffect[] } = $props();
</script>

<section class="panel border-warning px-3.5 py-2.5" aria-live="polite">
  <h2>What would change in the coming year</h2>
  {#each effects as e (e.job + e.reading)}
    <div class="border-base-300 grid grid-cols-[14rem_1fr_1fr] gap-x-3 border-b py-1 last:border-0">
      <span><b>{e.job}</b><span class="soft block text-[12.5px]">{e.reading}</span></span>
      <span
        >{#each e.gone.slice(0, 4) as at (at)}<div class="line-through">
            <ZonedTime {at} zone={e.zone} />
          </div>{/each}
        {#if e.gone.length > 4}<span class="soft">{e.gone.length - 4} more fall away</span>{/if}</span
      >
      <span
        >{#each e.new.slice(0, 4) as at (at)}<div><ZonedTime {at} zone={e.zone} /></div>{/each}
        {#if e.new.length > 4}<span class="soft">{e.new.length - 4} more come</span>{/if}</span
      >
    </div>
  {:else}<p>No ring changes.</p>{/each}
</section>
