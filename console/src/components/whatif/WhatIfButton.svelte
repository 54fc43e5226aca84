<script lang="ts">
  // The button that shows what a change would do, and takes it away again.
  let { open = $bindable(), disabled = false }: { open: boolean; disabled?: boolean } = $props();
</script>

<button class="btn" type="button" {disabled} aria-expanded={open && !disabled} onclick={() => (open = !open)}
  >{open && !disabled ? 'Hide what would change' : 'What would change'}</button
>
