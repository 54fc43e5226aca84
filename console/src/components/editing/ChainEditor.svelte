<script lang="ts">
  // The chain of a job that is being written: drawn, and changed by mouse and keyboard. The list of
  // tasks below says the same.
  import { before, followed, join, part, putAfter, putBeside, takeOut } from '../../lib/editing/chain';
  import { without, type Written } from '../../lib/editing/hint';
  import { freshTask, kinds } from '../../lib/editing/job';
  import { does, type Task } from '../../lib/tasks';
  import ChainView from '../ChainView.svelte';

  let { tasks = $bindable(), open }: { tasks: Written[]; open: (name: string) => void } = $props();

  let selected = $state('');
  let kind = $state('deliver');
  const at = $derived(tasks.findIndex((t) => t.name === selected));
  const names = $derived(tasks.map((t) => String(t.name)));
  const follows = $derived(at < 0 ? [] : followed(tasks, at));
  const joinable = $derived(
    names.filter((n) => n !== selected && !follows.includes(n) && !before(tasks, selected, n)),
  );
  const shown = $derived(
    tasks.map((t) => ({ ...t, says: t[String(t.kind)] ? does(without(t) as Task, {})[0] : String(t.kind) })),
  );
  function fresh() {
    const of = kinds.find((k) => k.kind === kind);
    return freshTask(kind, names, of?.begins ?? {});
  }
  function put(way: typeof putAfter<Written>) {
    const task = fresh();
    tasks = way(tasks, selected, task);
    selected = String(task.name);
  }
</script>

<ChainView tasks={shown} {selected} select={(name) => (selected = name)} />
<div
  class="flex min-h-8 flex-wrap items-center gap-x-4 gap-y-1 py-1 text-[13px]"
  role="group"
  aria-label="Change the chain"
>
  {#if at < 0}
    <span class="soft">Press a task to add beside it, join or part it.</span>
  {:else}
    <b>{selected}</b>
    <button type="button" class="edit-link" onclick={() => open(selected)}>Open it</button>
    <span class="flex items-center gap-2"
      ><select class="select select-xs bg-base-100 w-44" aria-label="Kind of the new task" bind:value={kind}>
        {#each kinds as k (k.kind)}<option value={k.kind}>{k.add}</option>{/each}
      </select>
      <button type="button" class="edit-link" onclick={() => put(putAfter)}>Add after it</button>
      <button type="button" class="edit-link" onclick={() => put(putBeside)}>Add beside it</button></span
    >
    {#if joinable.length}
      <select
        class="select select-xs bg-base-100 w-44"
        aria-label="Let {selected} follow another task"
        value=""
        onchange={(e) => (tasks = join(tasks, e.currentTarget.value, selected))}
      >
        <option value="">Join it behind …</option>
        {#each joinable as n (n)}<option value={n}>{n}</option>{/each}
      </select>
    {/if}
    {#each follows as n (n)}
      <button type="button" class="edit-link" onclick={() => (tasks = part(tasks, n, selected))}
        >Part it from {n}</button
      >
    {/each}
    {#if tasks.length > 1}<button
        type="button"
        class="edit-link"
        onclick={() => {
          tasks = takeOut(tasks, selected);
          selected = '';
        }}>Take it out</button
      >{/if}
  {/if}
</div>
