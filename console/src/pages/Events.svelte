<script lang="ts">
  // What happened outside and what it started; and the programs that may report it.
  import { searchParams } from 'sv-router';
  import EventList from '../components/events/EventList.svelte';
  import Waiting from '../components/events/Waiting.svelte';
  import Senders from '../components/events/Senders.svelte';
  import Subscriptions from '../components/events/Subscriptions.svelte';
  import { searched } from '../lib/param';

  const type = $derived(searched('type') ?? '');
  const sender = $derived(searched('sender') ?? '');
  function choose(name: 'type' | 'sender', value: string) {
    if (value) searchParams.set(name, value);
    else searchParams.delete(name);
  }
</script>

<svelte:head><title>Events · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Events</h1>
  <span class="soft"
    >What happened outside, what it started, which programs may report it, and which are told of what happens
    here.</span
  >
</div>
<Waiting />
<EventList {type} {sender} onchoose={choose} />
<Subscriptions />
<Senders onlook={(name) => choose('sender', name)} />
