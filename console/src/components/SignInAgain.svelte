<script lang="ts">
  // The session has ended: the same person signs in again, above what they were doing.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../lib/api';
  import { signedInAgain } from '../lib/queries';
  import Trouble from './Trouble.svelte';

  const { login, done }: { login: string; done: () => void } = $props();
  const client = useQueryClient();
  let password = $state('');
  const enter = createMutation(() => ({
    mutationFn: () => body(api.POST('/api/session', { body: { login, password } })),
    onSuccess: (me) => {
      signedInAgain(client, me);
      done();
    },
  }));
  const shown = (dialog: HTMLDialogElement) => {
    dialog.showModal();
  };
</script>

<dialog
  class="panel bg-base-100 text-base-content m-auto w-full max-w-sm p-5 backdrop:bg-black/50"
  aria-labelledby="again"
  {@attach shown}
  oncancel={(e) => e.preventDefault()}
>
  <form
    class="grid gap-3"
    onsubmit={(e) => {
      e.preventDefault();
      enter.mutate();
    }}
  >
    <h1 id="again">Your session has ended</h1>
    <p>Sign in again as {login}; the page behind this stays as it is, with all that you wrote.</p>
    <label class="grid gap-1 font-semibold"
      >Password<input
        class="input bg-base-100 w-full font-normal"
        type="password"
        autocomplete="current-password"
        required
        bind:value={password}
      /></label
    >
    {#if enter.isError}<Trouble error={enter.error} />{/if}
    <div class="flex gap-2">
      <button class="btn btn-primary" disabled={enter.isPending}
        >{enter.isPending ? 'Signing in' : 'Sign in'}</button
      >
      <button type="button" class="btn" onclick={() => location.assign('/')}>As somebody else</button>
    </div>
  </form>
</dialog>
