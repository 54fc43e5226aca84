<script lang="ts">
  // An identity of a source to add or to change: a login of its own, as which reports may read.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import PickPeople from '../people/PickPeople.svelte';
  import Trouble from '../Trouble.svelte';

  type Identity = { name: string; login: string; choosers: string[]; sealed: boolean };
  const { source, identity, onclose }: { source: string; identity?: Identity; onclose: () => void } =
    $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const people = createQuery(() => asks.people());
  let picked = $state<string[]>();
  const choosers = $derived(picked ?? identity?.choosers ?? []);
  const save = createMutation(() => ({
    meta: { says: 'The identity is saved.' },
    mutationFn: (form: FormData) => {
      const text = (name: string) => String(form.get(name) ?? '').trim();
      const name = identity?.name ?? text('name');
      return body(
        api.PUT('/api/sources/{name}/identities/{identity}', {
          params: { path: { name: source, identity: name } },
          body: { login: text('login'), choosers, password: String(form.get('password') ?? '') || undefined },
        }),
      );
    },
    onSuccess: async () => {
      await changed(client, 'source');
      close();
    },
  }));
</script>

<form
  {@attach opened(onclose)}
  class="my-2 grid max-w-3xl gap-2"
  aria-label={identity ? `Change the identity ${identity.name}` : `Add an identity of ${source}`}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(new FormData(e.currentTarget));
  }}
>
  {#if identity}<b>{identity.name}</b>{:else}
    <FormField
      label="Name"
      name="name"
      help="How reports and jobs call it, such as the port whose rows it reads."
      needed
    />
  {/if}
  <FormField
    label="Login *"
    name="login"
    value={identity?.login ?? ''}
    help="At the source. One that could get out of its rows is refused."
    needed
  />
  <FormField
    label="Password"
    name="password"
    form="password"
    help="Kept encrypted and never shown.{identity?.sealed
      ? ' The one that is there stays when this is empty.'
      : ''}"
  />
  <PickPeople
    label="May be chosen by"
    help="Beside administrators. Whoever may choose it reads what it reads."
    people={people.data ?? []}
    logins={choosers}
    none="Administrators alone."
    onpick={(all) => (picked = all)}
  />
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}>Save the identity</button>
    <button class="btn" type="button" onclick={onclose}
      >{identity ? 'Leave it as it is' : 'Do not add it'}</button
    >
  </div>
</form>
