<script lang="ts">
  // What should be known of a source wherever it is named, such as that its login can write.
  import { createQuery } from '@tanstack/svelte-query';
  import { asks } from '../lib/queries';

  let { source, identity = '' }: { source: string; identity?: string } = $props();
  const list = createQuery(() => asks.sources());
  // What its own login can do does not hold for an identity, which has another one.
  const note = $derived(identity ? undefined : list.data?.find((s) => s.name === source)?.note);
</script>

{#if note}<span class="text-warning font-semibold">{note}</span>{/if}
