<script lang="ts">
  // A destination to add or to change. What it is told depends on its protocol, as
  // the service describes it.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew, type Place } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import { toldOf } from '../../lib/setting';
  import Field from '../Field.svelte';
  import FormField from '../FormField.svelte';
  import SettingFields from './SettingFields.svelte';
  import Trouble from '../Trouble.svelte';

  const {
    place,
    onsaved,
    onclose,
  }: { place?: Place; onsaved: (name: string, test: boolean) => void; onclose: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const guard = untrack(() => (place ? beganFrom(place.revision) : toBeNew));
  const protocols = createQuery(() => asks.protocols());
  let picked = $state('');
  const protocol = $derived(picked || place?.protocol || 'smtp');
  const described = $derived(protocols.data?.find((one) => one.name === protocol));
  const settings = $derived((place?.protocol === protocol ? place.settings : {}) as Record<string, unknown>);
  let key = $state('');
  const save = createMutation(() => ({
    meta: { says: 'The destination is saved.' },
    mutationFn: async ({ form, test }: { form: FormData; test: boolean }) => {
      const text = (name: string) => String(form.get(name) ?? '');
      const name = place?.name ?? text('name').trim();
      const told = toldOf(form, described?.settings ?? []);
      const password = key.trim() || text('password') || undefined;
      await body(
        api.PUT('/api/destinations/{name}', {
          params: { path: { name } },
          body: { protocol: protocol as 'smtp', settings: told, password },
          ...guard,
        }),
      );
      return { name, test };
    },
    onSuccess: async ({ name, test }) => {
      await changed(client, 'destination');
      close();
      onsaved(name, test);
    },
  }));
</script>

{#if protocols.isError}<Trouble error={protocols.error} />{/if}
<form
  {@attach opened(onclose)}
  class="mt-2 grid gap-3"
  aria-label={place ? `Change ${place.name}` : 'Add a destination'}
  onsubmit={(e) => {
    e.preventDefault();
    const test = (e.submitter as HTMLButtonElement | null)?.value === 'test';
    save.mutate({ form: new FormData(e.currentTarget), test });
  }}
>
  <div class="grid gap-x-8 gap-y-2 xl:grid-cols-2">
    {#if !place}
      <FormField label="Name" name="name" help="How jobs call it, such as company mail." needed />
    {/if}
    <Field label="Protocol" help={described?.takes === 'mail' ? 'It takes mails.' : 'It takes files.'}>
      {#snippet children(names)}
        <select
          {...names}
          class="select select-sm bg-base-100 w-full"
          value={protocol}
          onchange={(e) => (picked = e.currentTarget.value)}
        >
          {#each protocols.data ?? [] as one (one.name)}<option value={one.name}>{one.title}</option>{/each}
        </select>
      {/snippet}
    </Field>
    {#if described}
      {#key protocol}<SettingFields
          of={protocol}
          described={described.settings}
          password={described.password}
          values={settings}
          sealed={place?.sealed}
          onkey={(text) => (key = text)}
          read={key.length}
        />{/key}
    {/if}
  </div>
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap items-center gap-2">
    <button class="btn btn-primary" value="test" disabled={save.isPending}>Save and test it</button>
    <button class="btn" value="save" disabled={save.isPending}>Save</button>
    <button class="btn" type="button" onclick={onclose}
      >{place ? 'Leave it as it is' : 'Do not add it'}</button
    >
  </div>
</form>
