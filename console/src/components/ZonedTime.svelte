<script lang="ts">
  // A time with its zone, and its distance on hover.
  import { now } from '../lib/now.svelte';
  import { distance, wall } from '../lib/time';

  const { at, zone, seconds = false }: { at: string; zone: string; seconds?: boolean } = $props();
</script>

<time datetime={at} class="mono whitespace-nowrap" title={distance(at, now.ms)}
  >{wall(at, zone, seconds, now.ms)}</time
>
