<script lang="ts">
  // How a draft stands: what it began from, when it was kept, who else writes.
  import type { Draft } from '../../lib/editing/draft.svelte';
  import { myZone } from '../../lib/me.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { draft, drop }: { draft: Draft; drop: () => void } = $props();
</script>

<span class="soft text-[13px]" role="status">
  {#if draft.elsewhere}<span class="text-warning"
      >You wrote at this draft in another window meanwhile; nothing is kept until you choose.</span
    >
  {:else if draft.trouble}<span class="text-warning"
      >The draft is kept in this tab only: {draft.trouble}. It is tried again.</span
    >
  {:else if draft.keptAt}Draft kept <ZonedTime at={draft.keptAt} zone={myZone()} />, not saved yet
  {:else if draft.changed}Not saved yet{:else}Nothing changed yet{/if}
</span>
{#if draft.elsewhere}
  <button type="button" class="edit-link" onclick={() => void draft.choose(false)}>Take what is there</button>
  <button type="button" class="edit-link" onclick={() => void draft.choose(true)}>Keep what is here</button>
{:else if draft.keptAt || draft.changed}<button type="button" class="edit-link" onclick={drop}
    >Drop the draft</button
  >{/if}
{#each draft.others as o (o.name)}
  <span class="text-info text-[13px] font-semibold"
    >{o.name} writes here, too, last <ZonedTime at={o.kept_at} zone={myZone()} /></span
  >
{/each}
