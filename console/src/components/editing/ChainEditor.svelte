<script lang="ts">
  // The chain of a job that is being written: drawn, and changed by mouse and keyboard. The list of
  // tasks below says the same.
  import {
    before,
    followed,
    join,
    part,
    putAfter,
    putBeside,
    restored,
    takeOut,
    written,
  } from '../../lib/editing/chain';
  import { without, type Written } from '../../lib/editing/hint';
  import { freshTask, kinds } from '../../lib/editing/job';
  import { does, type Task } from '../../lib/tasks';
  import ChainView from '../ChainView.svelte';

  let { tasks = $bindable(), open }: { tasks: Written[]; open: (name: string) => void } = $props();

  let selected = $state('');
  let kind = $state('deliver');
  /** What the next task that is pressed is for. */
  let aiming = $state<'' | 'join' | 'part'>('');
  let said = $state('');
  let past = $state.raw<Written[][]>([]);
  let undone = $state.raw<Written[][]>([]);
  const most = 50; // steps back

  const namesOf = (all: Written[]) => all.map((t) => String(t.name));
  const at = $derived(tasks.findIndex((t) => t.name === selected));
  const names = $derived(namesOf(tasks));
  const follows = $derived(at < 0 ? [] : followed(tasks, at));
  const followers = $derived(names.filter((_, i) => followed(tasks, i).includes(selected)));
  const joinable = $derived(
    names.filter((n) => n !== selected && !follows.includes(n) && !before(tasks, selected, n)),
  );
  const shown = $derived(
    tasks.map((t) => {
      const said = without(t) as Written; // of a fresh task nothing is said yet
      return { ...t, says: said[String(t.kind)] ? does(said as Task, {})[0] : String(t.kind) };
    }),
  );

  // What the list of tasks adds, removes or names anew is no step of the drawing: there is no way
  // back over it that would lose nothing.
  let known = '';
  $effect(() => {
    const now = JSON.stringify(names);
    if (known && now !== known) [past, undone] = [[], []];
    known = now;
  });
  function take(to: Written[]) {
    tasks = to;
    known = JSON.stringify(namesOf(to));
  }

  /** Changes the chain, so that the change can be taken back. */
  function change(to: Written[], saying: string) {
    if (JSON.stringify(to) === JSON.stringify(tasks)) return;
    past = [...past.slice(-most + 1), $state.snapshot(written(tasks))];
    undone = [];
    take(to);
    said = saying;
  }
  function step(from: Written[][], back: boolean) {
    const to = from.at(-1);
    if (!to) return;
    const now = $state.snapshot(written(tasks));
    if (back) [past, undone] = [from.slice(0, -1), [...undone, now]];
    else [undone, past] = [from.slice(0, -1), [...past, now]];
    take(restored(to, now));
    if (!namesOf(tasks).includes(selected)) selected = '';
    said = back ? 'The change was taken back.' : 'The change was made again.';
  }
  function put(way: typeof putAfter<Written>, where: string) {
    const of = kinds.find((k) => k.kind === kind);
    const task = freshTask(kind, names, of?.begins ?? {});
    change(way(tasks, selected, task), `${String(task.name)} stands ${where} ${selected}.`);
    selected = String(task.name);
  }
  function link(from: string, to: string) {
    if (before(tasks, to, from)) said = `${to} comes before ${from}, so it cannot follow it.`;
    else change(join(tasks, from, to), `${to} follows ${from}.`);
  }
  const unlink = (from: string, to: string) =>
    change(part(tasks, from, to), `${to} does not follow ${from} any more.`);
  function remove() {
    if (tasks.length < 2) return;
    const gone = selected;
    change(takeOut(tasks, gone), `${gone} was taken out.`);
    selected = '';
  }
  function choose(name: string) {
    if (aiming === 'join' && selected && name !== selected) link(selected, name);
    else if (aiming === 'part' && followers.includes(name)) unlink(selected, name);
    else if (aiming === 'part' && follows.includes(name)) unlink(name, selected);
    aiming = '';
    selected = name;
  }
  /** a and b add, j joins, p parts, Delete takes out, u and r go back and forth. */
  function press(key: string, name: string): boolean {
    if (key === 'Escape' && aiming) aiming = '';
    else if (key === 'u') step(past, true);
    else if (key === 'r') step(undone, false);
    else if (!['a', 'b', 'j', 'p', 'Delete'].includes(key)) return false;
    else {
      if (name !== selected) selected = name;
      if (key === 'a') put(putAfter, 'after');
      else if (key === 'b') put(putBeside, 'beside');
      else if (key === 'Delete') remove();
      else aiming = key === 'j' ? 'join' : 'part';
    }
    return true;
  }
</script>

<ChainView tasks={shown} {selected} select={choose} join={link} {press} />
<p class="soft min-h-5 text-[12.5px]" role="status">
  {#if aiming === 'join'}Choose the task that is to follow {selected}, or press Escape.
  {:else if aiming === 'part'}Choose the task to part {selected} from, or press Escape.
  {:else}{said}{/if}
</p>
<div
  class="flex min-h-8 flex-wrap items-center gap-x-4 gap-y-1 py-1 text-[13px]"
  role="group"
  aria-label="Change the chain"
>
  {#if at < 0}
    <span class="soft"
      >Press a task to add beside it, or draw a link from the ring at its right to the task that follows it.
      Keys on a task: a after, b beside, j join, p part, u back.</span
    >
  {:else}
    <b>{selected}</b>
    <button type="button" class="edit-link" onclick={() => open(selected)}>Open it</button>
    <span class="flex items-center gap-2"
      ><select class="select select-xs bg-base-100 w-44" aria-label="Kind of the new task" bind:value={kind}>
        {#each kinds as k (k.kind)}<option value={k.kind}>{k.add}</option>{/each}
      </select>
      <button type="button" class="edit-link" onclick={() => put(putAfter, 'after')}>Add after it</button>
      <button type="button" class="edit-link" onclick={() => put(putBeside, 'beside')}>Add beside it</button
      ></span
    >
    {#if joinable.length}
      <select
        class="select select-xs bg-base-100 w-44"
        aria-label="Let {selected} follow another task"
        value=""
        onchange={(e) => link(e.currentTarget.value, selected)}
      >
        <option value="">Join it behind …</option>
        {#each joinable as n (n)}<option value={n}>{n}</option>{/each}
      </select>
    {/if}
    {#each follows as n (n)}
      <button type="button" class="edit-link" onclick={() => unlink(n, selected)}>Part it from {n}</button>
    {/each}
    {#if tasks.length > 1}<button type="button" class="edit-link" onclick={remove}>Take it out</button>{/if}
  {/if}
  <span class="flex-1"></span>
  <button type="button" class="edit-link" disabled={!past.length} onclick={() => step(past, true)}
    >Undo (u)</button
  >
  <button type="button" class="edit-link" disabled={!undone.length} onclick={() => step(undone, false)}
    >Redo (r)</button
  >
</div>
