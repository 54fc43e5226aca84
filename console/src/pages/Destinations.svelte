<script lang="ts">
  // Where results go: each destination with what goes there, whether it works, and
  // what it answers when it is tried.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import { SvelteMap } from 'svelte/reactivity';
  import DestinationForm from '../components/places/DestinationForm.svelte';
  import RecordActions from '../components/records/RecordActions.svelte';
  import StateMark from '../components/StateMark.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { api, body } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { isAdministrator, myZone } from '../lib/me.svelte';
  import { searched } from '../lib/param';
  import { p } from '../router';

  const client = useQueryClient();
  const list = createQuery(() => asks.destinationPages());
  type Answer = { ok?: boolean; said: string; advice?: string; steps?: string[] };
  const said = new SvelteMap<string, Answer>();
  const adding = $derived(searched('add') !== null);
  const changing = $derived(searched('change') ?? '');
  function show(what: 'add' | 'change' | '', name = '') {
    searchParams.delete('add', undefined, { replace: true });
    searchParams.delete('change', undefined, { replace: true });
    if (what) searchParams.set(what, name, { replace: true });
  }
  function saved(name: string, andTest: boolean) {
    if (andTest) void test(name);
  }
  async function test(name: string, mail?: true) {
    said.set(name, { said: 'Trying it …' });
    try {
      const params = { path: { name }, query: { mail } };
      said.set(name, await body(api.POST('/api/destinations/{name}/test', { params })));
    } catch (error) {
      said.set(name, { ok: false, said: error instanceof Error ? error.message : String(error) });
    }
    await changed(client, 'destination');
  }
  function place(settings: unknown): string {
    const s = (settings ?? {}) as Record<string, unknown>;
    return ['user', 'host', 'share', 'url', 'bucket', 'prefix', 'folder', 'from']
      .filter((k) => s[k])
      .map((k) => `${k} ${String(s[k])}`)
      .join(', ');
  }
</script>

<svelte:head><title>Destinations · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Destinations</h1>
  <span class="soft">Where results go, and whether it works.</span>
  <span class="flex-1"></span>
  {#if isAdministrator() && !adding}<button class="btn" onclick={() => show('add', '1')}
      >Add a destination</button
    >{/if}
</div>
{#if adding && isAdministrator()}
  <section class="panel px-3.5 py-3">
    <h2>A new destination</h2>
    <DestinationForm onsaved={saved} onclose={() => show('')} />
  </section>
{/if}
{#if list.isError}<Trouble error={list.error} />{/if}
{#each list.data ?? [] as d (d.name)}
  <section class="panel px-3.5 py-3" data-destination={d.name}>
    <div class="flex flex-wrap items-baseline gap-3">
      <h2>{d.name}</h2>
      {#if d.rests}<StateMark state="failed" word="down" />
      {:else if !d.tested}<StateMark state="waiting" word="not tested yet" />
      {:else}<span
          ><StateMark state={d.tested.ok ? 'done' : 'failed'} word={d.tested.ok ? 'works' : 'test failed'} />
          <span class="soft"
            >{d.tested.ok ? 'tested' : 'at'} <ZonedTime at={d.tested.at} zone={myZone()} /></span
          ></span
        >{/if}
      <span>{d.protocol}</span>
      <span class="soft min-w-0 break-words">{place(d.settings)}</span>
      <span class="flex-1"></span>
      <a class="btn" href="{p('/deliveries')}?over={encodeURIComponent(d.name)}">Its deliveries</a>
      {#if isAdministrator()}
        <button class="btn" onclick={() => show('change', d.name)} aria-expanded={changing === d.name}
          >Change</button
        >
        <button class="btn" onclick={() => void test(d.name)}>Test it</button>
        {#if d.kind === 'mail'}<button class="btn" onclick={() => void test(d.name, true)}
            >Send me a mail over it</button
          >{/if}
      {/if}
    </div>
    {#if changing === d.name && isAdministrator()}
      <DestinationForm place={d} onsaved={saved} onclose={() => show('')} />
    {/if}
    <RecordActions kind="destination" name={d.name} may={isAdministrator()} />
    {#if d.rests}
      <p>
        Down since <ZonedTime at={d.rests.since} zone={myZone()} />: {d.rests.answer}.
        {#if d.rests.advice}{d.rests.advice}{/if}
      </p>
      <p>
        <b>{d.waiting} {d.waiting === 1 ? 'delivery waits' : 'deliveries wait'}</b> and go out by themselves
        when it works.
        {#if d.rests.look_at}It is looked at next at <ZonedTime
            at={d.rests.look_at}
            zone={myZone()}
            seconds
          />.{/if}
      </p>
    {/if}
    {#if !d.rests && d.tested?.answer && !said.has(d.name)}<p class="text-error">{d.tested.answer}</p>{/if}
    {#if d.pin}<p class="soft">Pinned host key <span class="mono">{d.pin}</span></p>{/if}
    {#if said.has(d.name)}
      {@const a = said.get(d.name)}
      <div role="status" class="my-1.5">
        {#each a?.steps ?? [] as step (step)}<p><StateMark state="done" word="" /> {step}</p>{/each}
        {#if a?.ok === false}<p class="text-error"><StateMark state="failed" word="" /> {a.said}</p>
          {#if a.advice}<p>{a.advice}</p>{/if}
        {:else if a?.ok === undefined}<p>{a?.said}</p>{/if}
      </div>
    {/if}
    {#if d.uses.length}
      <div class="overflow-x-auto">
        <table class="grid-list mt-2 max-w-4xl">
          <thead
            ><tr
              ><th>What goes there</th><th>Owner</th><th class="!text-right">Sent in 30 days</th><th
                class="!text-right">Waits</th
              ><th class="!text-right">Failed</th><th>Last</th></tr
            ></thead
          >
          <tbody>
            {#each d.uses as u (u.job)}
              <tr
                ><td
                  ><a class="underline" href={p('/jobs/:job', { params: { job: u.job } })}>{u.job}</a
                  >{#if !u.on}<span class="soft"> (off)</span>{/if}</td
                ><td>{u.owner}</td><td class="!text-right">{u.sent}</td><td class="!text-right"
                  >{u.waiting}</td
                ><td class="!text-right {u.failed ? 'text-error font-semibold' : ''}">{u.failed}</td><td
                  >{#if u.last_at}<ZonedTime at={u.last_at} zone={myZone()} />{/if}</td
                ></tr
              >
            {/each}
          </tbody>
        </table>
      </div>
    {:else}<p class="soft mt-1.5">No job sends there.</p>{/if}
  </section>
{:else}
  {#if list.data}<p>
      There is no destination yet. {isAdministrator()
        ? 'Add the mail server first, and test it.'
        : 'An administrator adds one here.'}
    </p>{/if}
{/each}
