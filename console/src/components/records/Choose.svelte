<script lang="ts">
  // The box by which a record of a list is chosen among others; its place where somebody may not.
  import { mayBegin } from '../../lib/me.svelte';

  let { name, may, names = $bindable() }: { name: string; may: boolean; names: string[] } = $props();
  const chosen = $derived(names.includes(name));
</script>

{#if may}<input
    type="checkbox"
    class="checkbox checkbox-xs mr-2 align-middle"
    aria-label="Choose {name}"
    checked={chosen}
    onchange={() => (names = chosen ? names.filter((n) => n !== name) : [...names, name])}
  />{:else if mayBegin()}<span class="mr-2 inline-block w-3.5" aria-hidden="true"></span>{/if}
