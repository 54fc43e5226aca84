<script lang="ts">
  // Where data comes from: each source with its identities, and what its server
  // answers when it is asked.
  import { createQuery } from '@tanstack/svelte-query';
  import { SvelteMap } from 'svelte/reactivity';
  import IdentityForm from '../components/places/IdentityForm.svelte';
  import SourceForm from '../components/places/SourceForm.svelte';
  import RecordActions from '../components/records/RecordActions.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body } from '../lib/api';
  import { asks } from '../lib/queries';
  import { isAdministrator } from '../lib/me.svelte';
  import { searched } from '../lib/param';
  import { searchParams } from 'sv-router';

  const list = createQuery(() => asks.sourcePages());
  const adding = $derived(searched('add') !== null);
  const changing = $derived(searched('change') ?? '');
  /** Which identity is being written, as source/name; the empty name is a new one. */
  let identity = $state<string>();
  function show(what: 'add' | 'change' | '', name = '') {
    searchParams.delete('add', undefined, { replace: true });
    searchParams.delete('change', undefined, { replace: true });
    if (what) searchParams.set(what, name, { replace: true });
  }
  function saved(name: string, andTest: boolean) {
    if (andTest) void test(name);
  }
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
  <span class="flex-1"></span>
  {#if isAdministrator() && !adding}<button class="btn" onclick={() => show('add', '1')}>Add a source</button
    >{/if}
</div>
{#if adding && isAdministrator()}
  <section class="panel px-3.5 py-3">
    <h2>A new source</h2>
    <SourceForm onsaved={saved} onclose={() => show('')} />
  </section>
{/if}
{#if list.isError}<Trouble error={list.error} />{/if}
{#each list.data ?? [] as s (s.name)}
  <section class="panel px-3.5 py-3">
    <div class="flex flex-wrap items-baseline gap-3">
      <h2>{s.name}</h2>
      <span>{s.protocol}</span>
      <span class="soft">{place(s.settings)}</span>
      {#if s.note}<span class="text-warning font-semibold">{s.note}</span>{/if}
      <span class="flex-1"></span>
      {#if isAdministrator()}
        <button class="btn" aria-expanded={changing === s.name} onclick={() => show('change', s.name)}
          >Change</button
        >
        <button class="btn" onclick={() => void test(s.name)}>Ask it for an answer</button>
      {/if}
    </div>
    {#if changing === s.name && isAdministrator()}
      <SourceForm place={s} onsaved={saved} onclose={() => show('')} />
    {/if}
    <RecordActions kind="source" name={s.name} may={isAdministrator()} />
    {#if said.has(s.name)}<p role="status" class={said.get(s.name)?.ok ? '' : 'text-error'}>
        {said.get(s.name)?.said}
      </p>{/if}
    {#if s.identities.length}
      <table class="grid-list mt-2 max-w-3xl">
        <thead><tr><th>Identity</th><th>Login</th><th>May be chosen by</th><th></th></tr></thead>
        <tbody>
          {#each s.identities as i (i.name)}
            <tr
              ><td>{i.name}</td><td class="mono">{i.login}</td><td
                >{['administrators', ...i.choosers].join(', ')}</td
              ><td class="!text-right"
                >{#if isAdministrator()}<button
                    class="edit-link"
                    aria-label="Change the identity {i.name}"
                    onclick={() => (identity = `${s.name}/${i.name}`)}>Change</button
                  >{/if}</td
              ></tr
            >
            {#if identity === `${s.name}/${i.name}`}<tr
                ><td colspan="4"
                  ><IdentityForm source={s.name} identity={i} onclose={() => (identity = undefined)} /></td
                ></tr
              >{/if}
          {/each}
        </tbody>
      </table>
    {:else}<p class="soft">It has no identities: reports read as its own login.</p>{/if}
    {#if isAdministrator()}
      {#if identity === `${s.name}/`}
        <IdentityForm source={s.name} onclose={() => (identity = undefined)} />
      {:else}<button class="edit-link mt-1" onclick={() => (identity = `${s.name}/`)}>Add an identity</button
        >{/if}
    {/if}
  </section>
{:else}
  {#if list.data}<p>
      There is no source yet. {isAdministrator()
        ? 'Add the database that reports read, and ask it for an answer.'
        : 'An administrator adds one here.'}
    </p>{/if}
{/each}
