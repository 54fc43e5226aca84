<script lang="ts">
  // The sessions and tokens that somebody has open, to be ended; and, for oneself, the password.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../lib/api';
  import { opened } from '../lib/opened';
  import { asks, changed } from '../lib/queries';
  import { me, myZone } from '../lib/me.svelte';
  import FormField from './FormField.svelte';
  import Trouble from './Trouble.svelte';
  import ZonedTime from './ZonedTime.svelte';

  let { login }: { login: string } = $props();
  const client = useQueryClient();
  const own = $derived(login === me()?.login);
  const list = createQuery(() => asks.signIns(login));
  const end = createMutation(() => ({
    meta: { says: 'It is ended.' },
    mutationFn: (id: number) => body(api.DELETE('/api/sign-ins/{id}', { params: { path: { id } } })),
    onSuccess: () => changed(client, 'signIns'),
  }));
  let changing = $state(false);
  let differs = $state(false);
  const change = createMutation(() => ({
    mutationFn: (form: FormData) => {
      const word = (name: string) => String(form.get(name) ?? '');
      return body(
        api.PUT('/api/session/password', { body: { present: word('present'), next: word('next') } }),
      );
    },
    // Everything that was open has ended with it, this session too.
    onSuccess: () => window.location.assign('/'),
  }));
</script>

<section class="panel px-3.5 py-3">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Signed in</h2>
    <span class="soft">Browsers and programs that are let in. End what you do not know.</span>
    <span class="flex-1"></span>
    {#if own && !changing}<button class="btn" onclick={() => (changing = true)}>Change the password</button
      >{/if}
  </div>
  {#if changing}
    <form
      {@attach opened(() => (changing = false))}
      class="mt-2 grid max-w-xl gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        const form = new FormData(e.currentTarget);
        differs = form.get('next') !== form.get('again');
        if (!differs) change.mutate(form);
      }}
    >
      <FormField
        label="Present password"
        name="present"
        form="password"
        autocomplete="current-password"
        needed
      />
      <FormField
        label="New password"
        name="next"
        form="password"
        needed
        help="At least 10 characters; several words that have nothing to do with each other are best."
      />
      <FormField label="New password again" name="again" form="password" needed />
      <p class="soft">
        All your sessions and tokens end with it, this one too, and your link to the forecast: sign in again.
      </p>
      <div class="flex gap-2">
        <button class="btn btn-primary" disabled={change.isPending}>Change it</button>
        <button class="btn" type="button" onclick={() => (changing = false)}>Leave it</button>
      </div>
      {#if differs}<p role="alert" class="text-error">
          The new password was typed in two ways; nothing was changed.
        </p>{/if}
      {#if change.isError}<Trouble error={change.error} />{/if}
    </form>
  {/if}
  {#if list.isError}<Trouble error={list.error} />{/if}
  {#if end.isError}<Trouble error={end.error} />{/if}
  {#if list.data?.length}
    <div class="overflow-x-auto">
      <table class="grid-list mt-2">
        <thead
          ><tr><th>What</th><th>From</th><th>Since</th><th>Last used</th><th>Ends</th><th></th></tr></thead
        >
        <tbody>
          {#each list.data as one (one.id)}
            <tr>
              <td class="max-w-80 break-words"
                ><span class="line-clamp-2" title={one.name}>{one.kind}{one.name ? `: ${one.name}` : ''}</span
                >{#if one.this}<b>this one</b>{/if}</td
              >
              <td class="mono">{one.address ?? 'the machine'}</td>
              <td><ZonedTime at={one.began_at} zone={myZone()} /></td>
              <td
                >{#if one.used_at}<ZonedTime at={one.used_at} zone={myZone()} />{:else}never{/if}</td
              >
              <td
                >{#if one.ends_at}<ZonedTime at={one.ends_at} zone={myZone()} />{:else}never{/if}</td
              >
              <td class="!text-right"
                ><button
                  class="btn"
                  aria-label="End the {one.kind} {one.name}"
                  disabled={end.isPending}
                  onclick={() => end.mutate(one.id)}>End</button
                ></td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if list.data}<p class="soft">Nothing is open.</p>{/if}
</section>
