<script lang="ts">
  // A ring of one side: when it rings, or why it does not, and when its run begins if that changes.
  import type { Coming, RingChange } from '../../lib/api';
  import ZonedTime from '../ZonedTime.svelte';

  const {
    ring,
    what,
    late = false,
    zone,
  }: { ring: Coming | undefined; what: RingChange['what']; late?: boolean; zone: string } = $props();
  const begins = $derived(ring?.begins && Date.parse(ring.begins) - Date.parse(ring.at) >= 60_000);
  const waits = $derived(!['gone', 'new', 'moved'].includes(what));
</script>

{#if !ring}<span class="soft">no ring</span>
{:else if ring.passed}<span class="soft">passed over: {ring.reason}</span>
{:else}
  <ZonedTime at={ring.at} {zone} />{#if waits && ring.begins && begins}<span
      >, {ring.joins ? 'joins a run that begins' : 'begins'} <ZonedTime at={ring.begins} {zone} /></span
    >{:else if waits && !ring.begins}<span>, does not begin as far as can be seen</span
    >{/if}{#if waits && ring.waits && !ring.joins}<span class="soft">: {ring.waits}</span>{/if}{#if late}<b
      class="text-error">, misses its deadline</b
    >{/if}
{/if}
