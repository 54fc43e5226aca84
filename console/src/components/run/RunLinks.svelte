<script lang="ts">
  // The links that lead to what a run made.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type RunPage } from '../../lib/api';
  import { changed } from '../../lib/queries';
  import StateMark from '../StateMark.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { run }: { run: RunPage } = $props();
  const client = useQueryClient();
  const links = $derived(run.links ?? []);
  const withdraw = createMutation(() => ({
    meta: { says: 'The links are withdrawn; they open nothing any more.' },
    mutationFn: () =>
      body(api.POST('/api/runs/{run}/links/withdraw', { params: { path: { run: run.id } }, body: {} })),
    onSuccess: () => changed(client, 'run'),
  }));
</script>

<section>
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Links</h2>
    <span class="flex-1"></span>
    {#if links.some((l) => !l.withdrawn_at && !l.ended)}<button
        class="btn"
        disabled={withdraw.isPending}
        onclick={() => withdraw.mutate()}>Withdraw them</button
      >{/if}
  </div>
  {#if withdraw.isError}<Trouble error={withdraw.error} />{/if}
  <div class="panel px-3.5 py-2">
    {#each links as l (l.id)}
      <p>
        For {l.words}.
        {#if l.withdrawn_at}<StateMark state="cancelled" word="withdrawn" /> by {l.withdrawn_by},
          <ZonedTime at={l.withdrawn_at} zone={run.zone} />.{:else}Ends <ZonedTime
            at={l.ends_at}
            zone={run.zone}
          />.{/if}
        <span class="soft"
          >Followed {l.follows}
          {l.follows === 1 ? 'time' : 'times'}{#if l.last_at}, last <ZonedTime
              at={l.last_at}
              zone={run.zone}
            />{/if}.</span
        >
      </p>
    {/each}
  </div>
</section>
