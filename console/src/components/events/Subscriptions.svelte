<script lang="ts">
  // Where the service's own events go: which, how far each address is, and again from a point.
  import { createQuery } from '@tanstack/svelte-query';
  import type { Subscription } from '../../lib/api';
  import { isAdministrator, myZone } from '../../lib/me.svelte';
  import { inWords } from '../../lib/published';
  import { asks } from '../../lib/queries';
  import RecordActions from '../records/RecordActions.svelte';
  import StateMark from '../StateMark.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';
  import Replay from './Replay.svelte';
  import SubscriptionForm from './SubscriptionForm.svelte';

  const list = createQuery(() => asks.subscriptions());
  let doing = $state('');
  let replaying = $state('');
  const close = () => (doing = '');
  const count = (n: number) => (n === 1 ? '1 event' : `${n} events`);
  function howFar(s: Subscription): [state: string, words: string] {
    if (s.off) return ['waiting', `off, ${count(s.behind)} behind`];
    if (s.stands) return ['failed', 'stands still'];
    if (s.open > 0)
      return ['sending', `${s.open} on their way${s.behind ? `, ${count(s.behind)} to be looked at` : ''}`];
    if (s.behind > 0) return ['waiting', `${count(s.behind)} to be looked at`];
    return ['done', 'has all that it wants'];
  }
</script>

<div class="flex flex-wrap items-baseline gap-3">
  <h2 class="text-base">Subscriptions</h2>
  <span class="soft">Programs outside that are told of what happens here, signed and in order.</span>
  <span class="flex-1"></span>
  {#if isAdministrator() && doing !== '+'}<button class="btn" onclick={() => (doing = '+')}
      >Add a subscription</button
    >{/if}
</div>
{#if doing === '+'}
  <section class="panel px-3.5 py-3">
    <h2>A new subscription</h2>
    <SubscriptionForm onclose={close} />
  </section>
{/if}
{#if list.isError}<Trouble error={list.error} />{/if}
{#each list.data ?? [] as s (s.id)}
  {@const [state, words] = howFar(s)}
  <section class="panel px-3.5 py-3" aria-label={s.name}>
    <div class="flex flex-wrap items-baseline gap-3">
      <h2>{s.name}</h2>
      <span class="soft">{s.note ?? ''}</span>
      <span class="flex-1"></span>
      {#if isAdministrator()}
        <button
          class="btn"
          aria-expanded={replaying === s.name}
          onclick={() => (replaying = replaying === s.name ? '' : s.name)}>Replay</button
        >
        <button class="btn" aria-expanded={doing === s.name} onclick={() => (doing = s.name)}>Change</button>
      {/if}
    </div>
    {#if doing === s.name}
      <SubscriptionForm subscription={s} onclose={close} />
    {:else}
      <p>
        Is told of {inWords(s.types)}{#if s.only_if}, only if <code class="mono break-all">{s.only_if}</code
          >{/if}; over the destination {s.destination}.
      </p>
    {/if}
    <p>
      <StateMark {state} word={words} /> · {count(s.sent)} taken in the last 24 hours{#if s.last_at}, the last
        at
        <ZonedTime at={s.last_at} zone={myZone()} />{/if}{#if s.failed}, {s.failed} given up{/if}.
    </p>
    {#if s.stands && !s.off}<p class="text-error">Nothing is handed on: {s.stands}.</p>{/if}
    {#if replaying === s.name}<Replay name={s.name} onclose={() => (replaying = '')} />{/if}
    <RecordActions kind="subscription" name={s.name} may={isAdministrator()} />
  </section>
{:else}
  {#if list.data}<p class="soft">
      No program is told of what happens here yet. {isAdministrator()
        ? 'Make a destination of the protocol http with a key, then add a subscription.'
        : 'An administrator adds them.'}
    </p>{/if}
{/each}
