<script lang="ts">
  // The events that were reported or raised, each with what it started, or why nothing.
  import { createInfiniteQuery, createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type OutsideEvent } from '../../lib/api';
  import { mayBegin, myZone } from '../../lib/me.svelte';
  import { opened } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import { p } from '../../router';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const {
    type,
    sender,
    onchoose,
  }: { type: string; sender: string; onchoose: (name: 'type' | 'sender', value: string) => void } = $props();
  const client = useQueryClient();
  const list = createInfiniteQuery(() => asks.events(type, sender));
  const all = $derived(list.data?.pages.flat() ?? []);
  const play = createMutation(() => ({
    meta: { says: 'It is played again.' },
    mutationFn: (number: number) =>
      body(api.POST('/api/events/{event}/play', { params: { path: { event: number } } })),
    onSuccess: async () => {
      asked = 0;
      await changed(client, 'sender');
      await changed(client, 'run');
    },
  }));
  let asked = $state(0);
  const dataOf = (e: OutsideEvent) => (e.data === undefined ? '' : JSON.stringify(e.data));
</script>

<section class="panel px-3.5 py-3" aria-label="What happened">
  <div class="flex flex-wrap items-baseline gap-x-3 gap-y-1">
    <h2>What happened</h2>
    {#each [['type', type], ['sender', sender]] as const as [name, value] (name)}
      {#if value}<button class="btn btn-sm" onclick={() => onchoose(name, '')}
          >{name}: {value} <span aria-hidden="true">✕</span><span class="sr-only">, show all</span></button
        >{/if}
    {/each}
  </div>
  {#if list.isError}<Trouble error={list.error} />{/if}
  {#if play.isError}<Trouble error={play.error} />{/if}
  {#if all.length}
    <div class="relative overflow-x-auto">
      <table class="grid-list">
        <thead
          ><tr
            ><th>Received</th><th>What</th><th>Reported by</th><th>Data</th><th>Started</th><th
              ><span class="sr-only">Play again</span></th
            ></tr
          ></thead
        >
        <tbody>
          {#each all as e (e.number)}
            <tr>
              <td class="whitespace-nowrap"
                ><ZonedTime at={e.received} zone={myZone()} /><br /><span class="soft">no. {e.number}</span
                ></td
              >
              <td class="mono min-w-52 break-all">
                <button class="cursor-pointer text-left underline" onclick={() => onchoose('type', e.type)}
                  >{e.type}</button
                >
                <br /><span class="soft">{e.source}{e.subject ? ` about ${e.subject}` : ''}</span>
              </td>
              <td>
                {#if e.played_from !== undefined}{e.reporter}, no. {e.played_from} again
                {:else if e.run}<a class="underline" href={p('/runs/:run', { params: { run: e.run } })}
                    >run {e.run}</a
                  >
                {:else if e.sender}{e.sender}
                {:else}{e.reporter || 'the service'}{/if}
              </td>
              <td class="mono max-w-60 truncate text-[12px]" title={dataOf(e)}>{dataOf(e)}</td>
              <td class="max-w-80 min-w-44">
                {#each e.started as run (run)}<a
                    class="mr-2 underline"
                    href={p('/runs/:run', { params: { run } })}>{run}</a
                  >{:else}<span class="soft">nothing{e.note ? '' : ': no job waited for it'}</span>{/each}
                {#if e.note}<span class="soft block text-[12px]">{e.note}</span>{/if}
              </td>
              <td class="!text-right">
                {#if mayBegin()}<button
                    class="edit-link"
                    aria-label="Play again …, event no. {e.number}"
                    aria-expanded={asked === e.number}
                    onclick={() => (asked = e.number)}>Play again …</button
                  >{/if}
              </td>
            </tr>
            {#if asked === e.number}
              <tr
                ><td colspan="6">
                  <div
                    {@attach opened(() => (asked = 0))}
                    class="flex flex-wrap items-center gap-2"
                    role="group"
                    aria-label="Play it again, event no. {e.number}"
                  >
                    <span
                      >All that waits for {e.type} counts it once more, as of {e.time.slice(0, 10)}; jobs that
                      it starts send what they send.</span
                    >
                    <button
                      class="btn btn-primary btn-sm"
                      disabled={play.isPending}
                      onclick={() => play.mutate(e.number)}>Play it again</button
                    >
                    <button class="btn btn-sm" onclick={() => (asked = 0)}>Leave it</button>
                  </div>
                </td></tr
              >
            {/if}
          {/each}
        </tbody>
      </table>
    </div>
    {#if list.hasNextPage}<button
        class="btn mt-2"
        disabled={list.isFetchingNextPage}
        onclick={() => void list.fetchNextPage()}>Show older ones</button
      >{/if}
  {:else if list.data}<p class="soft">
      {#if type || sender}No such event is on record.{:else}No event was reported yet. Add a program below
        that may report some; somebody does it by hand with <span class="mono">ironbell event</span>, and a
        task of the kind emit raises one.{/if}
    </p>{/if}
</section>
