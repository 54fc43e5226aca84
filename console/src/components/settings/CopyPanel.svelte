<script lang="ts">
  // What this installation is, when it is a copy.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { isAdministrator, myZone } from '../../lib/me.svelte';
  import { asks, changed } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const client = useQueryClient();
  const copy = createQuery(() => asks.copy());
  const say = createMutation(() => ({
    mutationFn: (sending: 'all' | 'none') => body(api.POST('/api/settings/copy', { body: { sending } })),
    onSettled: () => changed(client, 'settings'),
  }));
</script>

{#if copy.isError}<Trouble error={copy.error} />{/if}
{#if say.isError}<Trouble error={say.error} />{/if}
{#if copy.data?.since}
  <section class="panel border-warning px-3.5 py-3">
    <h2>This is a copy</h2>
    <p>
      Known since <ZonedTime at={copy.data.since} zone={myZone()} />: {copy.data.why}. It stands still and
      sends nothing until you say what it is. A copy for tests acts on nothing outside itself; ironbell copy
      names what it may act on.
    </p>
    {#if isAdministrator()}
      <div class="mt-2 flex flex-wrap gap-2">
        <button class="btn" onclick={() => say.mutate('none')}>It is for tests: work, but send nothing</button
        >
        <button class="btn" onclick={() => say.mutate('all')}
          >It goes on in place of the first one, which is gone</button
        >
      </div>
    {/if}
  </section>
{/if}
{#if copy.data?.test}
  <p class="panel px-3.5 py-3">
    This is a copy for tests. Outside itself it acts on {copy.data.named?.length
      ? copy.data.named.join(', ')
      : 'nothing'}; mail goes as is said below.
  </p>
{/if}
