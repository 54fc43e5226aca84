<script lang="ts">
  // Deliveries that wait for somebody's word, each with the way to its run, where it is given.
  import type { Asking } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { p } from '../../router';
  import ZonedTime from '../ZonedTime.svelte';

  const { all, says }: { all: Asking[]; says: string } = $props();
</script>

{#if all.length}
  <p class="soft px-3.5 pt-1.5 text-[13px]">{says}</p>
  <ul class="px-3.5 pb-1.5">
    {#each all as a (a.delivery)}
      <li class="flex flex-wrap items-baseline gap-x-3">
        <a class="underline" href={p('/runs/:run', { params: { run: a.run } })}>{a.job} to {a.address}</a>
        <span class="soft">since <ZonedTime at={a.since} zone={myZone()} /></span>
      </li>
    {/each}
  </ul>
{/if}
