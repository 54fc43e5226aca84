<script lang="ts">
  // How much may work at once, of everything, a source, a destination or the jobs with a tag.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, body } from '../../lib/api';
  import { isAdministrator } from '../../lib/me.svelte';
  import { changed } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import WhatIf from '../whatif/WhatIf.svelte';
  import WhatIfButton from '../whatif/WhatIfButton.svelte';
  import Labels from './Labels.svelte';

  const { limits }: { limits: Record<string, number> } = $props();
  const client = useQueryClient();
  let lines = $state(untrack(() => Object.entries(limits).map(([label, n]) => ({ label, n: String(n) }))));
  let label = $state('');
  let adding = $state(false);
  let looking = $state(false);
  const what = (l: string) => (l === 'service' ? 'everything' : l.replace(':', ' '));
  const told = $derived(
    Object.fromEntries(lines.filter((l) => l.n.trim()).map((l) => [l.label, Number(l.n)])),
  );
  const differs = $derived(JSON.stringify(told) !== JSON.stringify(limits));
  const save = createMutation(() => ({
    meta: { says: 'The limits are saved, and hold at once.' },
    mutationFn: () => body(api.PUT('/api/limits', { body: told })),
    onSuccess: () => changed(client, 'queue'),
  }));
</script>

<section class="panel px-3.5 py-3">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Limits</h2>
    <span class="soft">Parts of runs that may work at once, over all nodes.</span>
    <span class="flex-1"></span>
    {#if isAdministrator() && !adding}<button class="btn" onclick={() => (adding = true)}>Add a limit</button
      >{/if}
  </div>
  {#if adding}
    <form
      class="my-2 grid gap-2"
      aria-label="Add a limit"
      onsubmit={(e) => {
        e.preventDefault();
        lines.push({ label, n: '' });
        label = '';
        adding = false;
      }}
    >
      <Labels bind:label without={lines.map((l) => l.label)} />
      <div class="flex gap-2 sm:pl-[11.5rem]">
        <button class="btn" disabled={!label}>Limit it</button>
        <button class="btn" type="button" onclick={() => (adding = false)}>Add none</button>
      </div>
    </form>
  {/if}
  <ul class="grid gap-1">
    {#each lines as l, n (l.label)}
      <li class="flex flex-wrap items-center gap-3">
        <label class="min-w-40 flex-1" for="limit-{n}">{what(l.label)}</label>
        <input
          id="limit-{n}"
          class="input input-sm bg-base-100 w-24"
          inputmode="numeric"
          placeholder="how many"
          disabled={!isAdministrator()}
          bind:value={l.n}
        />
        {#if isAdministrator()}<button
            class="edit-link"
            aria-label="Take out the limit of {what(l.label)}"
            onclick={() => lines.splice(n, 1)}>Take out</button
          >{/if}
      </li>
    {:else}<li class="soft">
        There is no limit but how much each node works at once. A limit of a source spares its server.
      </li>{/each}
  </ul>
  {#if save.isError}<Trouble error={save.error} />{/if}
  {#if differs}<div class="mt-2 flex flex-wrap gap-2">
      <button class="btn btn-primary" disabled={save.isPending} onclick={() => save.mutate()}
        >Save the limits</button
      >
      <WhatIfButton bind:open={looking} />
      <button
        class="btn"
        onclick={() =>
          (lines = Object.entries(limits).map(([one, count]) => ({ label: one, n: String(count) })))}
        >Leave them as they are</button
      >
    </div>
    {#if looking}<div class="mt-2"><WhatIf asked={{ limits: told }} pause={500} /></div>{/if}
  {/if}
</section>
