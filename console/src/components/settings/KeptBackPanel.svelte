<script lang="ts">
  // What was kept back while nothing left the installation.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { isAdministrator } from '../../lib/me.svelte';
  import { asks, changed } from '../../lib/queries';
  import { p } from '../../router';
  import Trouble from '../Trouble.svelte';

  const client = useQueryClient();
  const most = 1000;
  const silent = createQuery(() =>
    asks.setting('silent', () =>
      body(api.GET('/api/deliveries', { params: { query: { kept_back: 'silent', limit: most } } })),
    ),
  );
  const held = $derived(silent.data?.length ?? 0);
  const release = createMutation(() => ({
    mutationFn: (send: boolean) => body(api.POST('/api/deliveries/release', { body: { send } })),
    onSettled: () => changed(client, 'settings'),
  }));
</script>

{#if silent.isError}<Trouble error={silent.error} />{/if}
{#if release.isError}<Trouble error={release.error} />{/if}
{#if held > 0}
  <section class="panel border-warning px-3.5 py-3">
    <h2>Kept back while nothing left</h2>
    <p>
      <a class="underline" href="{p('/deliveries')}?kept=silent"
        >{held === most ? `${most} or more` : held} {held === 1 ? 'delivery' : 'deliveries'}</a
      > wait since this installation sent nothing like them.
    </p>
    {#if isAdministrator()}
      <div class="mt-2 flex gap-2">
        <button class="btn" onclick={() => release.mutate(true)}>Send them now</button>
        <button class="btn" onclick={() => release.mutate(false)}>Drop them: they fail for good</button>
      </div>
    {/if}
  </section>
{/if}
