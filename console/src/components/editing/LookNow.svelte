<script lang="ts">
  // What a trigger waits for, looked at now; nothing is started by it.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type Condition, type Looked } from '../../lib/api';
  import { without } from '../../lib/editing/hint';
  import { myZone } from '../../lib/me.svelte';
  import { opened } from '../../lib/opened';
  import { changed } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { conditions }: { conditions: Condition[] } = $props();
  const look = createMutation(() => ({
    mutationFn: () =>
      Promise.all(
        (without(conditions) as Condition[]).map((c): Promise<Looked> =>
          body(api.POST('/api/look', { body: c })),
        ),
      ),
  }));
  // A sample is played after it was said what that does: to what is saved, and not to what is being written.
  let asked = $state(0);
  const client = useQueryClient();
  const play = createMutation(() => ({
    meta: { says: 'It is played again.' },
    mutationFn: (number: number) =>
      body(api.POST('/api/events/{event}/play', { params: { path: { event: number } } })),
    onSuccess: async () => {
      asked = 0;
      await changed(client, 'sender');
    },
  }));
  const headsOf = (seen: Looked) =>
    seen.files?.length ? ['File', 'Bytes', 'Changed'] : (seen.columns ?? []);
</script>

<div class="py-1">
  <button type="button" class="edit-link" disabled={look.isPending} onclick={() => look.mutate()}
    >{look.isPending ? 'Looking …' : 'Look now, start nothing'}</button
  >
  {#if look.isError}<Trouble error={look.error} />{/if}
  {#each look.data ?? [] as seen, i (i)}
    <div role="status" class="mt-1 text-[13px]">
      <p>
        {#if (look.data ?? []).length > 1}<b>{i + 1}.</b>
        {/if}{seen.sentence}
      </p>
      {#if seen.files?.length || seen.rows?.length}
        <div class="overflow-x-auto">
          <table class="grid-list">
            <thead>
              <tr
                >{#each headsOf(seen) as head, k (k)}<th>{head}</th>{/each}</tr
              >
            </thead>
            <tbody>
              {#each seen.files ?? [] as f (f.path)}
                <tr
                  ><td class="break-all">{f.path}</td><td class="num">{f.size}</td><td
                    ><ZonedTime at={f.changed} zone={myZone()} /></td
                  ></tr
                >
              {/each}
              {#each seen.rows ?? [] as row, r (r)}
                <tr
                  >{#each row ?? [] as cell, k (k)}<td class="max-w-96 truncate" title={cell}>{cell}</td
                    >{/each}</tr
                >
              {/each}
            </tbody>
          </table>
        </div>
      {/if}
      {#if seen.number}
        {@const number = seen.number}
        {#if asked === number}
          <div {@attach opened(() => (asked = 0))} role="group" aria-label="Play event no. {number} again">
            <p>
              It counts as a new event, no. {number} again. It starts what waits for it as it was last saved, and
              jobs that it starts send what they send.
            </p>
            <div class="flex flex-wrap gap-2">
              <button
                type="button"
                class="btn btn-primary"
                disabled={play.isPending}
                onclick={() => play.mutate(number)}>Play it again</button
              >
              <button type="button" class="btn" onclick={() => (asked = 0)}>Leave it</button>
            </div>
          </div>
        {:else}<button type="button" class="edit-link" onclick={() => (asked = number)}
            >Play this sample …</button
          >{/if}
      {/if}
    </div>
  {/each}
  {#if play.isError}<Trouble error={play.error} />{/if}
  {#if play.data}<p role="status" class="text-[13px]">
      {play.data.started?.length
        ? `It started ${play.data.started.length === 1 ? 'run' : 'runs'} ${play.data.started.join(', ')}.`
        : `It started nothing${play.data.notes?.length ? `: ${play.data.notes.join('; ')}` : ''}.`}
    </p>{/if}
</div>
