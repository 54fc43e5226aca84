<script lang="ts">
  // The box by which a record of a list is chosen among others.
  let { name, may, names = $bindable() }: { name: string; may: boolean; names: string[] } = $props();
  const chosen = $derived(names.includes(name));
</script>

{#if may}<input
    type="checkbox"
    class="checkbox checkbox-xs mr-2 align-middle"
    aria-label="Choose {name}"
    checked={chosen}
    onchange={() => (names = chosen ? names.filter((n) => n !== name) : [...names, name])}
  />{/if}
