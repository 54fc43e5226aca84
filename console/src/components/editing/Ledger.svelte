<script lang="ts">
  // A part of an editor's sheet: its heading in the margin, what is written beside it.
  import type { Snippet } from 'svelte';

  const { title, note = '', children }: { title: string; note?: string; children: Snippet } = $props();
</script>

<section class="ledger" aria-label={title}>
  <div>
    <h2 class="text-base-content! mb-0!">{title}</h2>
    {#if note}<p class="soft text-[12.5px]">{note}</p>{/if}
  </div>
  <div>{@render children()}</div>
</section>
