<script lang="ts">
  // Every handing over: to whom, over what, what the other side said, and what can
  // be done about it.
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import DeliveryTable from '../components/DeliveryTable.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { oneOf } from '../lib/form';
  import { asks } from '../lib/queries';
  import { myZone } from '../lib/me.svelte';
  import { p } from '../router';

  const states = [
    'waiting',
    'sending',
    'offered',
    'taken',
    'sent',
    'failed',
    'bounced',
    'unknown',
    'declined',
  ] as const;
  type State = (typeof states)[number];
  const reasons = {
    rest: 'destination down',
    yes: 'waits for a yes',
    silent: 'silent',
    turn: 'waits for the one before',
  } as const;
  const chosen = $derived(
    String(searchParams.get('state') ?? '')
      .split(',')
      .filter((s): s is State => (states as readonly string[]).includes(s)),
  );
  const kept = $derived(String(searchParams.get('kept') ?? ''));
  const over = $derived(String(searchParams.get('over') ?? ''));
  const to = $derived(String(searchParams.get('to') ?? ''));
  const before = $derived(Number(searchParams.get('before') ?? 0));
  const limit = 50;
  const list = createQuery(() =>
    asks.deliveries({
      limit,
      ...(chosen.length && { state: chosen }),
      kept_back: oneOf(kept, ['rest', 'yes', 'silent', 'turn']),
      ...(over && { destination: over }),
      ...(to && { address: to }),
      ...(before && { before }),
    }),
  );

  function set(name: string, value: string) {
    searchParams.delete('before', undefined, { replace: true });
    if (value) searchParams.set(name, value, { replace: true });
    else searchParams.delete(name, undefined, { replace: true });
  }
  const toggle = (s: State) =>
    set('state', (chosen.includes(s) ? chosen.filter((c) => c !== s) : [...chosen, s]).join(','));
</script>

<svelte:head><title>Deliveries · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-2">
  <h1>Deliveries</h1>
  <span class="flex-1"></span>
  <label class="flex items-center gap-2"
    >To <input
      class="input min-h-7 w-52"
      type="search"
      placeholder="address or path"
      value={to}
      onchange={(e) => set('to', e.currentTarget.value.trim())}
    /></label
  >
</div>
<div class="flex flex-wrap items-center gap-x-5 gap-y-2">
  <div class="flex flex-wrap items-center gap-2">
    {#each states as s (s)}
      <button class="chip" aria-pressed={chosen.includes(s)} onclick={() => toggle(s)}>{s}</button>
    {/each}
  </div>
  <div class="flex flex-wrap items-center gap-2">
    <span class="soft">kept back:</span>
    {#each Object.entries(reasons) as [why, word] (why)}
      <button class="chip" aria-pressed={kept === why} onclick={() => set('kept', kept === why ? '' : why)}
        >{word}</button
      >
    {/each}
  </div>
</div>
{#if over}
  <p>
    Over <a class="underline" href={p('/destinations')}>{over}</a>.
    <button class="btn" onclick={() => set('over', '')}>All destinations</button>
  </p>
{/if}
{#if list.isError}<Trouble error={list.error} />{/if}
{#if list.data?.length}
  <DeliveryTable deliveries={list.data} zone={myZone()} />
  <div class="flex gap-2">
    {#if before}<button class="btn" onclick={() => searchParams.delete('before')}>Newest</button>{/if}
    {#if list.data.length === limit}
      <button class="btn" onclick={() => searchParams.set('before', String(list.data?.at(-1)?.id ?? ''))}
        >Older</button
      >
    {/if}
  </div>
{:else if list.data}
  <p class="soft">
    {chosen.length || kept || over || to
      ? 'No delivery is like that.'
      : 'Nothing was delivered yet. Ring a job that sends something to see its deliveries here.'}
  </p>
{/if}
