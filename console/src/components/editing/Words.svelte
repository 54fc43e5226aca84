<script lang="ts">
  // Several of what there is, each a chip that is pressed; what is chosen and is not there
  // any more stays, so that it can be taken out.
  type Names = { id: string; 'aria-describedby': string; 'aria-invalid'?: boolean };
  let {
    names,
    label,
    words,
    value = $bindable(),
  }: { names: Names; label: string; words: string[]; value: unknown } = $props();

  const chosen = $derived((Array.isArray(value) ? value : []) as string[]);
  const all = $derived([...new Set([...words, ...chosen])]);
</script>

<span {...names} class="flex min-h-7 flex-wrap items-center gap-1.5" role="group" aria-label={label}>
  {#each all as word (word)}
    <button
      type="button"
      class="chip"
      aria-pressed={chosen.includes(word)}
      onclick={() => {
        const left = chosen.filter((w) => w !== word);
        value = left.length < chosen.length ? (left.length ? left : undefined) : [...chosen, word];
      }}>{word}</button
    >
  {:else}<span class="soft text-[13px]">none to choose from</span>{/each}
</span>
