<script lang="ts">
  // Every handing over: to whom, over what, what the other side said, and what can
  // be done about it.
  import { createMutation, createQuery, keepPreviousData, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import DeliveryState from '../components/DeliveryState.svelte';
  import Trouble from '../components/Trouble.svelte';
  import Wall from '../components/Wall.svelte';
  import { api, body } from '../lib/api';
  import { me, myZone } from '../lib/me.svelte';
  import { p } from '../router';

  const states = ['waiting', 'sending', 'offered', 'sent', 'failed', 'bounced', 'unknown'] as const;
  type State = (typeof states)[number];
  const reasons = { rest: 'destination down', yes: 'waits for a yes', silent: 'silent' } as const;
  type Reason = keyof typeof reasons;
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
  const client = useQueryClient();
  const list = createQuery(() => ({
    queryKey: ['deliveries', chosen.join(','), kept, over, to, before],
    queryFn: () =>
      body(
        api.GET('/api/deliveries', {
          params: {
            query: {
              limit,
              ...(chosen.length && { state: chosen }),
              ...(kept in reasons && { kept_back: kept as Reason }),
              ...(over && { destination: over }),
              ...(to && { address: to }),
              ...(before && { before }),
            },
          },
          querySerializer: { array: { style: 'form', explode: false } },
        }),
      ),
    placeholderData: keepPreviousData,
  }));
  const settle = createMutation(() => ({
    mutationFn: ({ delivery, as }: { delivery: number; as: 'sent' | 'failed' | 'resend' }) =>
      body(api.POST('/api/deliveries/{delivery}/settle', { params: { path: { delivery } }, body: { as } })),
    onSuccess: () => client.invalidateQueries(),
  }));
  const allow = createMutation(() => ({
    mutationFn: ({ delivery, yes }: { delivery: number; yes: boolean }) =>
      body(api.POST('/api/deliveries/{delivery}/allow', { params: { path: { delivery } }, body: { yes } })),
    onSuccess: () => client.invalidateQueries(),
  }));

  function set(name: string, value: string) {
    searchParams.delete('before', undefined, { replace: true });
    if (value) searchParams.set(name, value, { replace: true });
    else searchParams.delete(name, undefined, { replace: true });
  }
  const toggle = (s: State) =>
    set('state', (chosen.includes(s) ? chosen.filter((c) => c !== s) : [...chosen, s]).join(','));
  const mayAct = $derived(me()?.role !== 'reader');
</script>

<svelte:head><title>Deliveries · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-2">
  <h1 class="mr-2">Deliveries</h1>
  {#each states as s (s)}
    <button class="chip" aria-pressed={chosen.includes(s)} onclick={() => toggle(s)}>{s}</button>
  {/each}
  <span class="soft mx-1">kept back:</span>
  {#each Object.entries(reasons) as [why, word] (why)}
    <button class="chip" aria-pressed={kept === why} onclick={() => set('kept', kept === why ? '' : why)}
      >{word}</button
    >
  {/each}
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
{#if over}
  <p>
    Over <a class="underline" href={p('/destinations')}>{over}</a>.
    <button class="btn" onclick={() => set('over', '')}>All destinations</button>
  </p>
{/if}
{#if list.isError}<Trouble error={list.error} />{/if}
{#if settle.isError}<Trouble error={settle.error} />{/if}
{#if allow.isError}<Trouble error={allow.error} />{/if}
{#if list.data?.length}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="panel overflow-x-auto" tabindex="0" role="region" aria-label="Deliveries">
    <table class="grid-list">
      <thead>
        <tr
          ><th>State</th><th>To</th><th>What</th><th>Over</th><th>At</th><th>Tries</th><th
            >The other side said</th
          ></tr
        >
      </thead>
      <tbody>
        {#each list.data as d (d.id)}
          <tr>
            <td><DeliveryState delivery={d} /></td>
            <td class="max-w-[14.5rem] break-words"
              >{d.went_to || d.address}{#if d.meant_for}<span class="soft">
                  meant for {d.meant_for}</span
                >{/if}</td
            >
            <td
              >{#if d.run_id}<a class="underline" href={p('/runs/:run', { params: { run: d.run_id } })}
                  >{d.subject}</a
                >{:else}{d.subject}{/if}</td
            >
            <td class="whitespace-nowrap">{d.destination}</td>
            <td class="whitespace-nowrap"
              >{#if d.settled_at}<Wall
                  at={d.settled_at}
                  zone={myZone()}
                  seconds
                />{:else if d.state === 'waiting' && d.tries > 0 && !d.kept_back}next
                <Wall at={d.ready_at} zone={myZone()} seconds />{:else}<Wall
                  at={d.created_at}
                  zone={myZone()}
                  seconds
                />{/if}</td
            >
            <td>{d.tries}</td>
            <td class="min-w-[20rem]"
              ><div class="mono soft break-words">{d.answer}</div>
              {#if d.advice && d.state !== 'sent'}<div class="soft">{d.advice}</div>{/if}
              <div class="flex flex-wrap gap-1.5">
                {#if mayAct && d.run_id}
                  {#if d.kept_back === 'yes'}
                    <button
                      class="btn btn-primary"
                      onclick={() => allow.mutate({ delivery: d.id, yes: true })}>Let it go out</button
                    >
                    <button class="btn" onclick={() => allow.mutate({ delivery: d.id, yes: false })}
                      >No</button
                    >
                  {/if}
                  {#if d.state === 'unknown'}
                    <button class="btn" onclick={() => settle.mutate({ delivery: d.id, as: 'sent' })}
                      >It arrived</button
                    >
                    <button class="btn" onclick={() => settle.mutate({ delivery: d.id, as: 'failed' })}
                      >It did not</button
                    >
                  {/if}
                  {#if ['unknown', 'failed', 'bounced'].includes(d.state)}
                    <button class="btn" onclick={() => settle.mutate({ delivery: d.id, as: 'resend' })}
                      >Send again</button
                    >
                  {/if}
                {/if}
              </div>
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
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
