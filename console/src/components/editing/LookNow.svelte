<script lang="ts">
  // What a trigger waits for, looked at now; nothing is started by it.
  import { createMutation } from '@tanstack/svelte-query';
  import { api, body, type Condition, type Looked } from '../../lib/api';
  import { without } from '../../lib/editing/hint';
  import { myZone } from '../../lib/me.svelte';
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
    </div>
  {/each}
</div>
