<script lang="ts">
  // Shows the sign-in page or, to somebody who is signed in, the whole console.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { Router } from 'sv-router';
  import { isSignedOut } from '../lib/api';
  import { asks, isMe } from '../lib/queries';
  import { listen } from '../lib/live.svelte';
  import { setMe } from '../lib/me.svelte';
  import SignIn from '../pages/SignIn.svelte';
  import Shell from './Shell.svelte';
  import Trouble from './Trouble.svelte';
  import '../router';

  const client = useQueryClient();
  const me = createQuery(() => asks.me());
  // A session that ends while a page is open shows at whatever is asked next.
  client.getQueryCache().subscribe((event) => {
    if (
      event.type === 'updated' &&
      event.action.type === 'error' &&
      isSignedOut(event.action.error) &&
      !isMe(event.query)
    )
      void client.resetQueries(asks.me());
  });
  const signedIn = $derived(Boolean(me.data) && !me.isError);
  $effect(() => {
    if (me.data) setMe(me.data);
  });
  $effect(() => (signedIn ? listen(client) : undefined));
</script>

{#if me.isError && isSignedOut(me.error)}
  <SignIn />
{:else if me.isError}
  <main class="mx-auto max-w-xl p-8"><Trouble error={me.error} /></main>
{:else if me.data}
  <Shell me={me.data}><Router /></Shell>
{/if}
