<script lang="ts">
  // What was removed in the last thirty days, to be brought back: one or several at once.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { SvelteSet } from 'svelte/reactivity';
  import { api, body } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { asks, changedAll } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const client = useQueryClient();
  const list = createQuery(() => asks.removed());
  const picked = new SvelteSet<string>();
  const keyOf = (r: { kind: string; name: string }) => `${r.kind} ${r.name}`;
  const chosen = $derived((list.data ?? []).filter((r) => picked.has(keyOf(r))));
  const back = createMutation(() => ({
    meta: {
      says: (_: unknown, all: unknown) => {
        const names = all as { kind: string; name: string }[];
        return names.length === 1 ? `${names[0]?.name} is back.` : `${names.length} records are back.`;
      },
    },
    mutationFn: (all: { kind: string; name: string }[]) =>
      body(
        api.POST('/api/records/return', {
          body: { records: all.map((r) => ({ kind: r.kind, name: r.name })) },
        }),
      ),
    onSuccess: async () => {
      picked.clear();
      await changedAll(client);
    },
  }));
</script>

<section class="panel px-3.5 py-3">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Removed</h2>
    <span class="soft">What was removed can be brought back for 30 days. Until then its name is taken.</span>
    <span class="flex-1"></span>
    {#if chosen.length > 1}<button class="btn" disabled={back.isPending} onclick={() => back.mutate(chosen)}
        >Bring back {chosen.length}</button
      >{/if}
  </div>
  {#if list.isError}<Trouble error={list.error} />{/if}
  {#if back.isError}<Trouble error={back.error} />{/if}
  {#each back.data?.notes ?? [] as note (note)}<p role="status" class="text-warning">{note}</p>{/each}
  {#if list.data?.length}
    <div class="overflow-x-auto">
      <table class="grid-list">
        <thead
          ><tr
            ><th></th><th>Kind</th><th>Name</th><th>Removed</th><th>By</th><th>Gone for good</th><th></th></tr
          ></thead
        >
        <tbody>
          {#each list.data as r (keyOf(r))}
            <tr>
              <td
                ><input
                  type="checkbox"
                  class="checkbox checkbox-xs"
                  aria-label="Choose {r.kind} {r.name}"
                  checked={picked.has(keyOf(r))}
                  onchange={(e) => (e.currentTarget.checked ? picked.add(keyOf(r)) : picked.delete(keyOf(r)))}
                /></td
              >
              <td>{r.kind}</td>
              <td class="min-w-0 break-words">{r.name}</td>
              <td><ZonedTime at={r.at} zone={myZone()} /></td>
              <td>{r.by}</td>
              <td><ZonedTime at={r.until} zone={myZone()} /></td>
              <td class="!text-right"
                ><button
                  class="btn"
                  disabled={back.isPending}
                  aria-label="Bring back {r.kind} {r.name}"
                  onclick={() => back.mutate([r])}>Bring back</button
                ></td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if list.data}<p class="soft">Nothing was removed in the last 30 days.</p>{/if}
</section>
