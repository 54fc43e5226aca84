<script lang="ts">
  // What keeps the programs of tasks apart from the service.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { asks } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';

  const programs = createQuery(() => asks.setting('programs', () => body(api.GET('/api/settings/programs'))));
</script>

{#if programs.isError}<Trouble error={programs.error} />{/if}
{#if programs.data?.allowed}
  <section class="panel px-3.5 py-3" class:border-warning={programs.data.open}>
    <h2>Programs</h2>
    <p class="soft">What tasks run beside the service on {programs.data.node}, and what keeps them apart.</p>
    {#each programs.data.walls as wall (wall)}
      <p>{wall}</p>
    {/each}
  </section>
{/if}
