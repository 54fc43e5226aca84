<script lang="ts">
  import { signedIn } from '../lib/queries';
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import Bell from '../components/Bell.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body } from '../lib/api';

  const client = useQueryClient();
  let login = $state('');
  let password = $state('');
  const enter = createMutation(() => ({
    mutationFn: () => body(api.POST('/api/session', { body: { login, password } })),
    onSuccess: (me) => {
      signedIn(client, me);
    },
  }));
</script>

<svelte:head><title>Sign in · Iron Bell</title></svelte:head>

<main class="grid min-h-screen place-items-center p-4">
  <form
    class="panel bg-base-200 flex w-full max-w-sm flex-col gap-3 p-6"
    onsubmit={(e) => {
      e.preventDefault();
      enter.mutate();
    }}
  >
    <h1 class="flex items-center gap-2"><Bell />Iron Bell</h1>
    <label class="flex flex-col gap-1 font-semibold">
      Sign-in name
      <input
        class="input bg-base-100 w-full font-normal"
        name="login"
        autocomplete="username"
        autocapitalize="none"
        required
        bind:value={login}
      />
    </label>
    <label class="flex flex-col gap-1 font-semibold">
      Password
      <input
        class="input bg-base-100 w-full font-normal"
        name="password"
        type="password"
        autocomplete="current-password"
        required
        bind:value={password}
      />
    </label>
    {#if enter.isError}<Trouble error={enter.error} />{/if}
    <button class="btn btn-primary self-start" disabled={enter.isPending}
      >{enter.isPending ? 'Signing in' : 'Sign in'}</button
    >
    <p class="soft text-[13px]">An administrator adds people and sets their first password.</p>
  </form>
</main>
