<script lang="ts">
  // Shows the sign-in page or, to somebody who is signed in, the whole console. When a session
  // ends while somebody works, they sign in above the page, which stays as it was.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { Router } from 'sv-router';
  import { isSignedOut, onSignedOut } from '../lib/api';
  import { asks, changedAll } from '../lib/queries';
  import { listen } from '../lib/live.svelte';
  import { setMe } from '../lib/me.svelte';
  import SignIn from '../pages/SignIn.svelte';
  import SignInAgain from './SignInAgain.svelte';
  import Shell from './Shell.svelte';
  import Trouble from './Trouble.svelte';
  import '../router';

  const client = useQueryClient();
  // While the service does not answer, it is asked again until it does.
  const me = createQuery(() => ({
    ...asks.me(),
    refetchInterval: (query) =>
      query.state.status === 'error' && !isSignedOut(query.state.error) ? 3_000 : false,
  }));
  let ended = $state(false);
  $effect(() =>
    onSignedOut(() => {
      if (me.data) ended = true;
    }),
  );
  $effect(() => {
    if (me.data) setMe(me.data);
    if (me.data && isSignedOut(me.error)) ended = true;
  });
  const listens = $derived(Boolean(me.data) && !ended);
  $effect(() => (listens ? listen(client, () => void me.refetch()) : undefined));
</script>

{#if me.data}
  <Shell me={me.data}><Router /></Shell>
  {#if ended}
    <SignInAgain
      login={me.data.login}
      done={() => {
        ended = false;
        void changedAll(client);
      }}
    />
  {/if}
{:else if me.isError && isSignedOut(me.error)}
  <SignIn />
{:else if me.isError}
  <main class="mx-auto max-w-xl p-8"><Trouble error={me.error} /></main>
{/if}
