<script lang="ts">
  // The programs outside that report events: what each may send, what it is known by, and what it sent lately.
  import { createQuery } from '@tanstack/svelte-query';
  import { isAdministrator, myZone } from '../../lib/me.svelte';
  import { asks } from '../../lib/queries';
  import RecordActions from '../records/RecordActions.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';
  import SenderForm from './SenderForm.svelte';
  import SenderKeys from './SenderKeys.svelte';

  const { onlook }: { onlook: (sender: string) => void } = $props();
  const list = createQuery(() => asks.senders());
  let doing = $state('');
  const close = () => (doing = '');
</script>

<div class="flex flex-wrap items-baseline gap-3">
  <h2 class="text-base">Senders</h2>
  <span class="soft">Programs outside that report events.</span>
  <span class="flex-1"></span>
  {#if isAdministrator() && doing !== '+'}<button class="btn" onclick={() => (doing = '+')}
      >Add a sender</button
    >{/if}
</div>
{#if doing === '+'}
  <section class="panel px-3.5 py-3">
    <h2>A new sender</h2>
    <SenderForm onclose={close} />
  </section>
{/if}
{#if list.isError}<Trouble error={list.error} />{/if}
{#each list.data ?? [] as s (s.id)}
  <section class="panel px-3.5 py-3" aria-label={s.name}>
    <div class="flex flex-wrap items-baseline gap-3">
      <h2>{s.name}</h2>
      <span class="soft">{s.note ?? ''}</span>
      <span class="flex-1"></span>
      <button class="edit-link" onclick={() => onlook(s.name)}>What it sent</button>
      {#if isAdministrator()}<button
          class="btn"
          aria-expanded={doing === s.name}
          onclick={() => (doing = s.name)}>Change</button
        >{/if}
    </div>
    {#if doing === s.name}
      <SenderForm sender={s} onclose={close} />
    {:else}
      <ul class="mono text-[13px]">
        {#each s.sends as g (`${g.source} ${g.type}`)}<li class="break-all">
            {g.type} <span class="soft">of {g.source}</span>
          </li>{/each}
      </ul>
    {/if}
    <p>
      {s.day === 1 ? '1 event' : `${s.day} events`} in the last 24 hours{#if s.last_at}, the last at <ZonedTime
          at={s.last_at}
          zone={myZone()}
        />{/if}; at most {s.pace ?? 6000} a minute at each node.
    </p>
    {#if s.refused_at}<p class="text-error">
        Refused {s.refused === 1 ? 'once' : `${s.refused} times`}, last at <ZonedTime
          at={s.refused_at}
          zone={myZone()}
        />: {s.refused_why}
      </p>{/if}
    <SenderKeys sender={s} />
    <RecordActions kind="sender" name={s.name} may={isAdministrator()} />
  </section>
{:else}
  {#if list.data}<p class="soft">
      No program reports events yet. {isAdministrator()
        ? 'Add one with what it may send, then make its token or its key.'
        : 'An administrator adds them.'}
    </p>{/if}
{/each}
