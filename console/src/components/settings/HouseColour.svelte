<script lang="ts">
  // A colour, chosen or written; none is the service's own.
  import Field from '../Field.svelte';

  const {
    label,
    value,
    help,
    set,
  }: { label: string; value: string; help: string; set: (colour: string) => void } = $props();
</script>

<Field {label} help="{help} Empty: the service’s own.">
  {#snippet children(names)}
    <div class="flex gap-2">
      <input
        {...names}
        class="input input-sm bg-base-100 mono w-28"
        placeholder="#14507a"
        {value}
        onchange={(e) => set(e.currentTarget.value.trim())}
      />
      <input
        type="color"
        aria-label="{label}, chosen"
        class="h-8 w-12 cursor-pointer"
        value={value || '#888888'}
        onchange={(e) => set(e.currentTarget.value)}
      />
    </div>
  {/snippet}
</Field>
