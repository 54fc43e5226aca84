<script lang="ts">
  // Where a task stands in the chain: after the one before it, at once, or after some.
  import type { Written } from '../../lib/editing/hint';
  import Words from './Words.svelte';

  let { task = $bindable(), others, i }: { task: Written; others: string[]; i: number } = $props();

  const id = $props.id();
  const after = $derived(task.after as string[] | undefined);
  const way = $derived(after === undefined ? 'list' : after.length ? 'some' : 'once');
  function go(to: string) {
    task.after = to === 'list' ? undefined : to === 'once' ? [] : others.slice(0, 1);
  }
</script>

<div class="flex flex-wrap items-center gap-3">
  <label class="flex items-center gap-3 text-[13px] font-semibold" for="{id}-way">Begins</label>
  <select
    id="{id}-way"
    class="select select-sm bg-base-100 w-64"
    value={way}
    onchange={(e) => go(e.currentTarget.value)}
  >
    <option value="list">{i === 0 ? 'at once, as the first' : 'after the task before it'}</option>
    <option value="once">at once, beside others</option>
    {#if others.length}<option value="some">after certain tasks</option>{/if}
  </select>
  {#if way === 'some'}
    <Words
      names={{ id, 'aria-describedby': `${id}-way` }}
      label="Tasks that it follows"
      words={others}
      bind:value={() => task.after, (to) => (task.after = to ?? [])}
    />
  {/if}
</div>
