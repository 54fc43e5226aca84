<script lang="ts">
  // Where data comes from: each source with its identities, and what its server
  // answers when it is asked.
  import { createQuery } from '@tanstack/svelte-query';
  import { SvelteMap } from 'svelte/reactivity';
  import Trouble from '../components/Trouble.svelte';
  import { api, body } from '../lib/api';
  import { asks } from '../lib/queries';
  import { isAdministrator } from '../lib/me.svelte';

  const list = createQuery(() => asks.sourcePages());
  const said = new SvelteMap<string, { ok: boolean; said: string }>();
  async function test(name: string) {
    said.set(name, { ok: true, said: 'Asking …' });
    try {
      said.set(name, await body(api.POST('/api/sources/{name}/test', { params: { path: { name } } })));
    } catch (error) {
      said.set(name, { ok: false, said: error instanceof Error ? error.message : String(error) });
    }
  }
  function place(settings: unknown): string {
    const s = (settings ?? {}) as Record<string, unknown>;
    return ['user', 'host', 'database', 'file', 'folder', 'url']
      .filter((k) => s[k])
      .map((k) => `${k} ${String(s[k])}`)
      .join(', ');
  }
</script>

<svelte:head><title>Sources · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Sources</h1>
  <span class="soft">Where reports read, and as whom.</span>
</div>
{#if list.isError}<Trouble error={list.error} />{/if}
{#each list.data ?? [] as s (s.name)}
  <section class="panel px-3.5 py-3">
    <div class="flex flex-wrap items-baseline gap-3">
      <h2>{s.name}</h2>
      <span>{s.protocol}</span>
      <span class="soft">{place(s.settings)}</span>
      {#if s.note}<span class="text-warning font-semibold">{s.note}</span>{/if}
      <span class="flex-1"></span>
      {#if isAdministrator()}<button class="btn" onclick={() => void test(s.name)}
          >Ask it for an answer</button
        >{/if}
    </div>
    {#if said.has(s.name)}<p role="status" class={said.get(s.name)?.ok ? '' : 'text-error'}>
        {said.get(s.name)?.said}
      </p>{/if}
    {#if s.identities.length}
      <table class="grid-list mt-2 max-w-3xl">
        <thead><tr><th>Identity</th><th>Login</th><th>May be chosen by</th></tr></thead>
        <tbody>
          {#each s.identities as i (i.name)}
            <tr
              ><td>{i.name}</td><td class="mono">{i.login}</td><td
                >{['administrators', ...i.choosers].join(', ')}</td
              ></tr
            >
          {/each}
        </tbody>
      </table>
    {:else}<p class="soft">It has no identities: reports read as its own login.</p>{/if}
  </section>
{:else}
  {#if list.data}<p>There is no source yet. An administrator adds one through the API.</p>{/if}
{/each}
