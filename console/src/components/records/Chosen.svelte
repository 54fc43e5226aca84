<script lang="ts">
  // What can be done with several records of a list at once: what that means is said first.
  import type { Kind } from '../../lib/records';
  import RemoveRecord from './RemoveRecord.svelte';

  let { kind, names = $bindable() }: { kind: Kind; names: string[] } = $props();
  let removing = $state(false);
  $effect(() => {
    if (names.length === 0) removing = false;
  });
</script>

{#if names.length}
  <div class="flex flex-wrap items-center gap-3" role="status">
    <span>{names.length} chosen</span>
    {#if !removing}<button class="btn" onclick={() => (removing = true)}
        >{names.length === 1 ? 'Remove it …' : `Remove these ${names.length} …`}</button
      >{/if}
    <button class="btn" onclick={() => (names = [])}>Choose none</button>
  </div>
  {#if removing}
    {#key names.join('\n')}<RemoveRecord
        records={names.map((name) => ({ kind, name }))}
        onclose={() => (removing = false)}
        onremoved={() => (names = [])}
      />{/key}
  {/if}
{/if}
