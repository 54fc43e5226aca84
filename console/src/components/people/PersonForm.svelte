<script lang="ts">
  // A person to add or to change, as an administrator does, with what follows from it.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew, type Person } from '../../lib/api';
  import { text } from '../../lib/form';
  import { myZone } from '../../lib/me.svelte';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import Field from '../Field.svelte';
  import FormField from '../FormField.svelte';
  import Trouble from '../Trouble.svelte';

  const {
    person,
    onclose,
    onsaved,
  }: { person?: Person; onclose: () => void; onsaved: (login: string) => void } = $props();
  const client = useQueryClient();
  const saved = whileHere((login: string) => onsaved(login));
  const guard = untrack(() => (person ? beganFrom(person.revision) : toBeNew));
  const zones = createQuery(() => asks.zones());
  let role = $state(untrack(() => person?.role ?? 'reader'));
  const follows = createQuery(() => asks.inRole(person && role !== person.role ? person.login : '', role));
  let password = $state('');
  let mail = $state(untrack(() => person?.mail ?? ''));
  const may = {
    reader: 'They see jobs, reports, runs and files, and say what they want for their own mails.',
    owner: 'They make jobs and reports of their own, ring them, and answer for their alerts.',
    administrator:
      'They do everything: all jobs and reports, sources, destinations, people and settings, and they are told of alerts that nobody acknowledged.',
  };
  const save = createMutation(() => ({
    meta: { says: person ? 'The person is saved.' : 'The person is added.' },
    mutationFn: async (form: FormData) => {
      const login = person?.login ?? text(form, 'login') ?? '';
      await body(
        api.PUT('/api/people/{login}', {
          params: { path: { login } },
          body: {
            name: text(form, 'name') ?? '',
            mail: mail.trim(),
            role,
            zone: text(form, 'zone') ?? myZone(),
            password: password || undefined,
          },
          ...guard,
        }),
      );
      return login;
    },
    onSuccess: async (login) => {
      await changed(client, 'person');
      saved(login);
    },
  }));
</script>

<form
  {@attach opened(onclose)}
  class="my-2 grid max-w-3xl gap-2"
  aria-label={person ? `Change ${person.name}` : 'Add a person'}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(new FormData(e.currentTarget));
  }}
>
  {#if !person}
    <FormField label="Sign-in name *" name="login" help="What they type to sign in, such as oren." needed />
  {/if}
  <FormField label="Name *" name="name" value={person?.name ?? ''} needed />
  <Field
    label="Mail"
    help={mail.trim()
      ? 'Alerts and what is addressed to them go there.'
      : 'Without an address they get no mail, and cannot own a job that is on.'}
  >
    {#snippet children(names)}
      <input {...names} class="input input-sm bg-base-100 w-full" type="email" bind:value={mail} />
    {/snippet}
  </Field>
  <Field label="Role" help={may[role]}>
    {#snippet children(names)}
      <select {...names} class="select select-sm bg-base-100 w-full" bind:value={role}>
        <option value="reader">reader</option>
        <option value="owner">owner</option>
        <option value="administrator">administrator</option>
      </select>
    {/snippet}
  </Field>
  {#if person && role !== person.role}
    <section class="sm:pl-[11.5rem]" aria-live="polite" aria-label="What follows">
      {#if follows.data}
        <ul class="list-disc pl-4 text-sm">
          {#each follows.data as sentence (sentence)}<li>{sentence}</li>{/each}
        </ul>
      {:else if follows.isError}
        <Trouble error={follows.error} />
      {/if}
    </section>
  {/if}
  <FormField
    label="Time zone"
    name="zone"
    form="choice"
    choices={zones.data ?? []}
    none="your own"
    value={person?.zone ?? myZone()}
  />
  <Field
    label="Password"
    help={person
      ? password
        ? 'All their sessions and tokens end when it is saved.'
        : 'The one that is there stays when this is empty.'
      : 'At least 10 characters. Without one they cannot sign in, and can receive all the same.'}
  >
    {#snippet children(names)}
      <input
        {...names}
        class="input input-sm bg-base-100 w-full"
        type="password"
        autocomplete="new-password"
        bind:value={password}
      />
    {/snippet}
  </Field>
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}
      >{person ? 'Save the person' : 'Add the person'}</button
    >
    <button class="btn" type="button" onclick={onclose}
      >{person ? 'Leave them as they are' : 'Do not add them'}</button
    >
  </div>
</form>
