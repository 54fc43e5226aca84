<script lang="ts">
  // What a person wants for the mails that they get.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, beganFrom, body } from '../../lib/api';
  import { text } from '../../lib/form';
  import { myZone } from '../../lib/me.svelte';
  import { changed } from '../../lib/queries';
  import { fromField, toField, zoneWord } from '../../lib/time';
  import type { Person } from '../../lib/api';
  import Trouble from '../Trouble.svelte';

  const { person, people }: { person: Person; people: Person[] } = $props();
  const client = useQueryClient();
  const save = createMutation(() => ({
    meta: { says: 'The wishes are saved.' },
    mutationFn: (form: FormData) => {
      const until = text(form, 'until');
      return body(
        api.PUT('/api/people/{login}/wishes', {
          params: { path: { login: person.login } },
          ...beganFrom(person.revision),
          body: {
            language: text(form, 'language'),
            quiet_from: text(form, 'quiet_from'),
            quiet_to: text(form, 'quiet_to'),
            digest_at: text(form, 'digest_at'),
            stand_in: text(form, 'stand_in'),
            paused_until: until ? fromField(until, person.zone ?? myZone()).toISOString() : undefined,
            mail: text(form, 'mail'),
            zone: text(form, 'zone'),
          },
        }),
      );
    },
    onSuccess: () => changed(client, 'person'),
  }));
</script>

<datalist id="zones"
  >{#each Intl.supportedValuesOf('timeZone') as name (name)}<option value={name}></option>{/each}</datalist
>
<form
  class="mt-2 grid max-w-3xl gap-x-5 gap-y-2 sm:grid-cols-2"
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(new FormData(e.currentTarget));
  }}
>
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >Mail address <input
      class="input input-sm bg-base-100 w-56"
      type="email"
      name="mail"
      value={person.mail}
    /></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >Time zone <input
      class="input input-sm bg-base-100 w-56"
      name="zone"
      value={person.zone}
      list="zones"
    /></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >No reports until <input
      class="input input-sm bg-base-100 w-56"
      type="datetime-local"
      name="until"
      value={person.wishes?.paused_until ? toField(person.wishes.paused_until, person.zone) : ''}
    /></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >In their place <select
      class="select select-sm bg-base-100 w-56"
      name="stand_in"
      value={person.wishes?.stand_in ?? ''}
    >
      <option value="">nobody</option>
      {#each people as one (one.id)}{#if one.login !== person.login}<option value={one.login}
            >{one.name}</option
          >{/if}{/each}
    </select></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >Quiet from <input
      class="input input-sm bg-base-100 w-28"
      name="quiet_from"
      placeholder="22:00"
      value={person.wishes?.quiet_from ?? ''}
    /></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >to <input
      class="input input-sm bg-base-100 w-28"
      name="quiet_to"
      placeholder="06:30"
      value={person.wishes?.quiet_to ?? ''}
    /></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >Digest of what needs them at <input
      class="input input-sm bg-base-100 w-28"
      name="digest_at"
      placeholder="07:00"
      value={person.wishes?.digest_at ?? ''}
    /></label
  >
  <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
    >Dates written as in <input
      class="input input-sm bg-base-100 w-28"
      name="language"
      placeholder="en-GB"
      value={person.wishes?.language ?? ''}
    /></label
  >
  <p class="soft sm:col-span-2">
    All times are of {zoneWord(person.zone)}. Quiet hours hold back alerts that are not urgent. Urgent ones
    come at any time.
  </p>
  <div><button class="btn btn-primary" disabled={save.isPending}>Save</button></div>
  {#if save.isSuccess}<p role="status">Saved.</p>{/if}
</form>
{#if save.isError}<Trouble error={save.error} />{/if}
