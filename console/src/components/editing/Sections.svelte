<script lang="ts">
  // The sections that an output takes: pressed, or told more about each.
  import { around } from '../../lib/editing/context';
  import { without, type Written } from '../../lib/editing/hint';
  import Many from './Many.svelte';

  let { list = $bindable(), path }: { list: Written[]; path: string } = $props();

  const { offers } = around();
  const words = $derived(offers('Chosen', 'section', path)?.words ?? []);
  const plain = $derived(list.every((c) => Object.keys(without(c) as Written).length < 2));
  const toggle = (word: string) =>
    (list = list.some((c) => c.section === word)
      ? list.filter((c) => c.section !== word)
      : [...list, { section: word }]);
</script>

<div class="flex min-h-7 flex-wrap items-center gap-1.5" role="group" aria-label="Sections">
  <span class="text-[13px] font-semibold">Sections</span>
  {#each words as word (word)}
    <button
      type="button"
      class="chip"
      aria-pressed={list.some((c) => c.section === word)}
      onclick={() => toggle(word)}>{word}</button
    >
  {/each}
  {#if list.length === 0}<span class="soft text-[13px]">all of them</span>{/if}
</div>
{#if list.length}
  <details open={!plain}>
    <summary class="soft min-h-7 cursor-pointer py-1 text-[13px]">Names and underlying rows of each</summary>
    <Many of="Chosen" label="Sections" bind:list {path} />
  </details>
{/if}
