<script lang="ts">
  // A list of records: each can be moved, copied and taken out.
  import type { Written } from '../../lib/editing/hint';
  import { choiceOf } from '../../lib/editing/labels';
  import Fields from './Fields.svelte';

  let {
    of,
    label,
    help = '',
    list = $bindable(),
    path,
  }: { of: string; label: string; help?: string; list: Written[]; path: string } = $props();

  const one = $derived(label.replace(/ies$/, 'y').replace(/s$/, '').toLowerCase());
  const title = (r: Written, i: number) =>
    [r.name, r.table, r.cell, r.value, r.if, r.kind, r.format].find(Boolean) ?? `${one} ${i + 1}`;
  function move(i: number, to: number) {
    const copy = [...list];
    const [it] = copy.splice(i, 1);
    if (it) copy.splice(to, 0, it);
    list = copy;
  }
</script>

<div class="flex flex-wrap items-baseline gap-3">
  <span class="text-[13px] font-semibold">{label}</span>
  <button type="button" class="edit-link" onclick={() => (list = [...list, {}])}>Add {one}</button>
</div>
{#if help}<p class="soft text-[12.5px]">{help}</p>{/if}
{#each list as member, i (member)}
  <details
    class="border-base-300 mt-1 flow-root border-l-2 pl-3"
    data-path="{path}[{i}]"
    open={list.length < 4}
  >
    <summary class="min-h-7 cursor-pointer py-1 text-[13px]"
      ><b>{choiceOf(String(title(member, i)))}</b></summary
    >
    <div class="relative z-10 float-right -mt-7 flex gap-3">
      {#if i > 0}<button type="button" class="edit-link" onclick={() => move(i, i - 1)}>Up</button>{/if}
      {#if i < list.length - 1}<button type="button" class="edit-link" onclick={() => move(i, i + 1)}
          >Down</button
        >{/if}
      <button
        type="button"
        class="edit-link"
        aria-label="Remove {title(member, i)}"
        onclick={() => (list = list.filter((m) => m !== member))}>Remove</button
      >
    </div>
    {#if list[i]}<div class="clear-both pb-2">
        <Fields {of} bind:record={list[i]} path="{path}[{i}]" />
      </div>{/if}
  </details>
{/each}
