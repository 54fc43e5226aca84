<script lang="ts">
  // A field of a form: its name beside it, what it is for below it.
  import type { Snippet } from 'svelte';

  type Names = { id: string; 'aria-describedby'?: string };
  const {
    label,
    help = '',
    children,
  }: { label: string; help?: string; children: Snippet<[Names]> } = $props();
  const id = $props.id();
</script>

<div class="grid gap-x-4 sm:grid-cols-[10.5rem_minmax(0,1fr)]">
  <label for={id} class="flex min-h-7 items-center self-start text-[13px] font-semibold">{label}</label>
  <div class="min-w-0">
    {@render children({ id, 'aria-describedby': help ? `${id}-help` : undefined })}
    {#if help}<p id="{id}-help" class="soft text-[12.5px]">{help}</p>{/if}
  </div>
</div>
