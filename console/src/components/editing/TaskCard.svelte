<script lang="ts">
  // One task: what it is at a glance and, opened, all that it can be told.
  import { untrack } from 'svelte';
  import type { Ahead, Place } from '../../lib/api';
  import { around, faultsAt } from '../../lib/editing/context';
  import { isEmpty, without, type Written } from '../../lib/editing/hint';
  import { kinds, ofFiles, ofMail } from '../../lib/editing/job';
  import { does, place, type Task } from '../../lib/tasks';
  import Fields from './Fields.svelte';
  import Flags from './Flags.svelte';
  import TaskPlace from './TaskPlace.svelte';

  let {
    task = $bindable(),
    i,
    others,
    places,
    ahead,
    open,
    up,
    down,
    remove,
  }: {
    task: Written;
    i: number;
    others: string[];
    places: Place[];
    ahead: Ahead['tasks'][number] | undefined;
    open: boolean;
    up?: () => void;
    down?: () => void;
    remove: () => void;
  } = $props();

  const { faults } = around();
  const path = $derived(`tasks[${i}]`);
  const kind = $derived(kinds.find((k) => k.kind === task.kind));
  const own = $derived(task[String(task.kind)] as Written | undefined);
  const words = $derived(own ? does(without(task) as Task, {}) : ['', '']);
  const protocol = $derived(places.find((d) => d.name === own?.destination)?.protocol);
  // Of a place for files nothing of a mail is asked, and the other way round, unless it is told already.
  const first = $derived(
    protocol === 'smtp'
      ? ['to', 'subject', 'body', 'files']
      : protocol
        ? [...ofFiles, ...ofMail.filter((f) => !isEmpty(own?.[f]))]
        : [],
  );
  const further = $derived(
    protocol === 'smtp' ? ['formats', ...ofMail.filter((f) => !first.includes(f))] : ['formats'],
  );
  const shown = untrack(() => open);
</script>

<details class="ticket" open={shown} data-path={path}>
  <summary class="flex cursor-pointer flex-wrap items-baseline gap-x-3 px-3 py-1.5">
    <span class="mono soft">{i + 1}</span>
    <b>{task.name}</b>
    <span class="min-w-0 break-words">{words[0]} <span class="mono">{words[1]}</span></span>
    <span class="soft text-[13px]">{place(without(task) as Task, i)}</span>
    {#if faultsAt(faults(), path, true).length}<span class="flag" title="Something is missing here"
        >{faultsAt(faults(), path, true)[0]?.n}</span
      >{/if}
  </summary>
  <div class="grid gap-2 px-3 pb-3">
    {#if kind && own}
      {#if kind.kind === 'deliver'}
        <Fields
          of={kind.of}
          bind:record={task.deliver as Written}
          path="{path}.deliver"
          only={['destination', ...first]}
        />
        <details>
          <summary class="soft min-h-7 cursor-pointer py-1 text-[13px]">More</summary>
          <Fields of={kind.of} bind:record={task.deliver as Written} path="{path}.deliver" only={further} />
        </details>
      {:else}
        <Fields of={kind.of} bind:record={task[kind.kind] as Written} path="{path}.{kind.kind}" />
      {/if}
    {/if}
    {#if ahead?.files?.length}<p class="text-[13px]">
        <span class="soft">At the next ring:</span> <span class="mono">{ahead.files.join(', ')}</span>
      </p>{/if}
    {#if ahead?.subject}<p class="text-[13px]">
        <span class="soft">Subject at the next ring:</span> <b>{ahead.subject}</b>
      </p>{/if}
    <details>
      <summary class="soft min-h-7 cursor-pointer text-[13px]">Name, order, condition, limits</summary>
      <TaskPlace bind:task {others} {i} />
      <div class="pt-2">
        <Fields
          of="Task"
          bind:record={task}
          {path}
          only={['name', 'only_if', 'if_failed', 'uses', 'time_limit', 'repeatable']}
        />
      </div>
      <div class="flex gap-4 pt-2">
        {#if up}<button type="button" class="edit-link" onclick={up}>Move up</button>{/if}
        {#if down}<button type="button" class="edit-link" onclick={down}>Move down</button>{/if}
      </div>
    </details>
    <div>
      <button type="button" class="edit-link" aria-label="Remove this task, {task.name}" onclick={remove}
        >Remove this task</button
      >
    </div>
    <Flags faults={faultsAt(faults(), path, false)} />
  </div>
</details>
