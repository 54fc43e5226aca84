<script lang="ts">
  // Another name for a record, or a copy of it under one.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, body } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changedAll } from '../../lib/queries';
  import { kindWord, listed, type Kind } from '../../lib/records';
  import Trouble from '../Trouble.svelte';

  const {
    kind,
    name,
    copies,
    onclose,
    ondone,
  }: {
    kind: Kind;
    name: string;
    copies: boolean;
    onclose: () => void;
    ondone?: (to: string) => void;
  } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  let to = $state(untrack(() => (copies ? '' : name)));
  const id = $props.id();
  const former = createQuery(() => asks.formerNames(kind, name));
  const wanted = $derived(to.trim() !== '' && to.trim() !== name);
  const ahead = createQuery(() => asks.renaming(kind, name, to.trim(), wanted && !copies));
  const save = createMutation(() => ({
    meta: {
      says: () =>
        copies
          ? `${to.trim()} says what ${name} says.`
          : `It is called ${to.trim()} now; ${name} still finds it.`,
    },
    mutationFn: async () => {
      const asked = { kind, name, to: to.trim() };
      if (copies) await body(api.POST('/api/record/copy', { body: asked }));
      else await body(api.POST('/api/record/rename', { body: asked }));
      return asked.to;
    },
    onSuccess: async (called) => {
      close();
      ondone?.(called);
      await changedAll(client);
    },
  }));
  const free = createMutation(() => ({
    meta: { says: (_: unknown, old: unknown) => `The name ${String(old)} is free.` },
    mutationFn: (old: string) =>
      body(api.POST('/api/record/free-name', { body: { kind, name, former: old } })),
    onSuccess: () => changedAll(client),
  }));
</script>

<form
  {@attach opened(onclose)}
  class="my-2 grid max-w-2xl gap-2"
  aria-label={copies ? `Copy ${name}` : `Rename ${name}`}
  onsubmit={(e) => {
    e.preventDefault();
    if (wanted) save.mutate();
  }}
>
  <div class="flex flex-wrap items-center gap-2">
    <label class="text-[13px] font-semibold" for={id}>{copies ? 'Name of the copy' : 'New name'}</label>
    <input
      {id}
      class="input input-sm bg-base-100 min-w-0 flex-1"
      maxlength="200"
      bind:value={to}
      aria-describedby="{id}-says"
    />
    <button class="btn btn-primary" disabled={!wanted || save.isPending}
      >{copies ? 'Make the copy' : 'Rename it'}</button
    >
    <button class="btn" type="button" onclick={onclose}>{copies ? 'Make no copy' : 'Leave its name'}</button>
  </div>
  <p id="{id}-says" class="soft text-[13px]">
    {#if copies}
      {kindWord(kind).copied}
    {:else if wanted && ahead.data}
      {ahead.data.changed.length
        ? `Rewritten with it: ${listed(ahead.data.changed)}.`
        : 'Nothing else speaks of it.'} The old name still finds it, until it is freed.
    {:else}Whatever speaks of it is rewritten with it.{/if}
  </p>
  {#if !copies && former.data?.length}
    <p class="text-[13px]">
      Also found as
      {#each former.data as old (old)}<span class="mr-2"
          >{old}
          <button
            class="edit-link"
            type="button"
            aria-label="free it: the name {old}"
            onclick={() => free.mutate(old)}>free it</button
          ></span
        >{/each}
    </p>
  {/if}
  {#if wanted && !copies && ahead.isError}<Trouble error={ahead.error} />{/if}
  {#if save.isError}<Trouble error={save.error} />{/if}
  {#if free.isError}<Trouble error={free.error} />{/if}
</form>
