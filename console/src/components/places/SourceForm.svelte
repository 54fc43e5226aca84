<script lang="ts">
  // A source to add or to change. What it is told depends on its driver, as the service
  // describes it.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew, type Place } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import { toldOf } from '../../lib/setting';
  import Field from '../Field.svelte';
  import FormField from '../FormField.svelte';
  import Trouble from '../Trouble.svelte';
  import SettingFields from './SettingFields.svelte';

  const {
    place,
    onsaved,
    onclose,
  }: { place?: Place; onsaved: (name: string, test: boolean) => void; onclose: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const guard = untrack(() => (place ? beganFrom(place.revision) : toBeNew));
  const drivers = createQuery(() => asks.drivers());
  let picked = $state('');
  const driver = $derived(picked || place?.protocol || 'postgres');
  const described = $derived(drivers.data?.find((one) => one.name === driver));
  const values = $derived((place?.protocol === driver ? place.settings : {}) as Record<string, unknown>);
  const save = createMutation(() => ({
    meta: { says: 'The source is saved.' },
    mutationFn: async ({ form, test }: { form: FormData; test: boolean }) => {
      const name = place?.name ?? String(form.get('name') ?? '').trim();
      await body(
        api.PUT('/api/sources/{name}', {
          params: { path: { name } },
          body: {
            protocol: driver as 'postgres',
            settings: toldOf(form, described?.settings ?? []),
            password: String(form.get('password') ?? '') || undefined,
          },
          ...guard,
        }),
      );
      return { name, test };
    },
    onSuccess: async ({ name, test }) => {
      await changed(client, 'source');
      close();
      onsaved(name, test);
    },
  }));
</script>

{#if drivers.isError}<Trouble error={drivers.error} />{/if}
<form
  {@attach opened(onclose)}
  class="mt-2 grid gap-3"
  aria-label={place ? `Change ${place.name}` : 'Add a source'}
  onsubmit={(e) => {
    e.preventDefault();
    const test = (e.submitter as HTMLButtonElement | null)?.value === 'test';
    save.mutate({ form: new FormData(e.currentTarget), test });
  }}
>
  <div class="grid gap-x-8 gap-y-2 xl:grid-cols-2">
    {#if !place}
      <FormField label="Name" name="name" help="How reports call it, such as tarnwick." needed />
    {/if}
    <Field label="Driver" help={described?.note ?? 'What speaks to it.'}>
      {#snippet children(names)}
        <select
          {...names}
          class="select select-sm bg-base-100 w-full"
          value={driver}
          onchange={(e) => (picked = e.currentTarget.value)}
        >
          {#each drivers.data ?? [] as one (one.name)}<option value={one.name}>{one.title}</option>{/each}
        </select>
      {/snippet}
    </Field>
    {#if described}
      {#key driver}<SettingFields
          of={driver}
          described={described.settings}
          password={described.password}
          {values}
          sealed={place?.sealed}
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
    {#if save.isPending}<span class="soft" role="status">Asking the source who its login is …</span>{/if}
  </div>
</form>
