<script lang="ts">
  // What a job does, task by task.
  import type { Ahead, Place } from '../../lib/api';
  import { goTo } from '../../lib/editing/context';
  import type { Written } from '../../lib/editing/hint';
  import { freshTask, kinds } from '../../lib/editing/job';
  import TaskCard from './TaskCard.svelte';

  let {
    tasks = $bindable(),
    places,
    ahead,
  }: { tasks: Written[]; places: Place[]; ahead: Ahead | undefined } = $props();

  let open = $state.raw<Written | null>(null);
  function add(kind: (typeof kinds)[number]) {
    tasks.push(
      freshTask(
        kind.kind,
        tasks.map((t) => String(t.name)),
        kind.begins,
      ),
    );
    open = tasks.at(-1) ?? null;
  }
  function show(name: string) {
    open = tasks.find((t) => t.name === name) ?? null;
    goTo(`tasks[${tasks.findIndex((t) => t.name === name)}]`);
  }
  function move(i: number, to: number) {
    const [it] = tasks.splice(i, 1);
    if (it) tasks.splice(to, 0, it);
  }
</script>

{#if tasks.length > 2 || tasks.some((t) => t.after !== undefined)}
  {#await import('./ChainEditor.svelte') then chain}
    <chain.default bind:tasks open={(name) => show(name)} />
  {/await}
{/if}
<ol class="grid grid-cols-[minmax(0,1fr)] gap-2" data-path="tasks">
  {#each tasks as task, i (task)}
    <li>
      {#if tasks[i]}<TaskCard
          bind:task={() => task, (to) => (tasks[i] = to)}
          {i}
          others={tasks.filter((t) => t !== task).map((t) => String(t.name))}
          {places}
          ahead={ahead?.tasks.find((t) => t.task === task.name)}
          open={tasks.length < 4 || open === task}
          up={i > 0 ? () => move(i, i - 1) : undefined}
          down={i < tasks.length - 1 ? () => move(i, i + 1) : undefined}
          remove={() => tasks.splice(i, 1)}
        />{/if}
    </li>
  {/each}
</ol>
<div class="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-1" role="group" aria-label="Add a task">
  <span class="soft text-[13px]">Add</span>
  {#each kinds as kind (kind.kind)}
    <button type="button" class="edit-link" onclick={() => add(kind)}>{kind.add}</button>
  {/each}
</div>
