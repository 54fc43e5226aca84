<script lang="ts">
  // Records that are to be removed: what keeps them, what ends with them, and only then the button.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changedAll } from '../../lib/queries';
  import { linkOf, type RecordName } from '../../lib/records';
  import Trouble from '../Trouble.svelte';

  const {
    records,
    onclose,
    onremoved,
  }: { records: RecordName[]; onclose: () => void; onremoved?: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  /** What goes with them, because it needs them. */
  let also = $state<RecordName[]>([]);
  const all = $derived([...records, ...also]);
  const means = createQuery(() => asks.removing(all));
  const kept = $derived(means.data?.some((r) => r.needs.length > 0) ?? false);
  const needing = $derived((means.data ?? []).flatMap((r) => r.needs).filter((d) => d.kind !== 'setting'));
  const words = $derived(all.length === 1 ? `Remove ${all[0]?.name}` : `Remove ${all.length} records`);
  const remove = createMutation(() => ({
    meta: { says: 'Removed. Under Settings it can be brought back for 30 days.' },
    mutationFn: () => body(api.POST('/api/records/remove', { body: { records: all } })),
    onSuccess: async () => {
      close();
      onremoved?.();
      await changedAll(client);
    },
  }));
</script>

<section
  {@attach opened(onclose)}
  class="border-base-300 my-2 grid max-w-2xl gap-2 rounded border px-3 py-2"
  aria-label={words}
>
  {#if means.isError}<Trouble error={means.error} />{/if}
  {#each means.data ?? [] as r (`${r.kind} ${r.name}`)}
    <div>
      <p><b>{r.kind} {r.name}</b></p>
      {#each r.needs as d (`${d.kind} ${d.name}`)}
        <p class="text-error">
          Needed by {d.kind} <a class="underline" href={linkOf(d)}>{d.name}</a>, which {d.how}.
        </p>
      {/each}
      {#if r.ends.length}<p class="soft font-semibold">When it is removed:</p>{/if}
      {#each r.ends as sentence (sentence)}<p class="soft">{sentence}</p>{/each}
    </div>
  {/each}
  {#if means.isPending}<p class="soft" role="status">Looking what needs it …</p>{/if}
  <div class="flex flex-wrap items-center gap-2">
    <button class="btn" type="button" onclick={onclose}>{all.length === 1 ? 'Keep it' : 'Keep them'}</button>
    {#if kept && needing.length}
      <button class="btn" type="button" onclick={() => (also = [...also, ...needing])}
        >Remove {needing.length === 1 ? 'that' : `those ${needing.length}`} with it</button
      >
    {/if}
    <button
      class="btn"
      type="button"
      disabled={!means.data || kept || remove.isPending}
      onclick={() => remove.mutate()}>{words}</button
    >
    <span class="soft text-[13px]">For 30 days {all.length === 1 ? 'it' : 'they'} can be brought back.</span>
  </div>
  {#if remove.isError}<Trouble error={remove.error} />{/if}
</section>
