<script lang="ts">
  // A destination to add or to change. What it is told depends on its protocol, as
  // the service describes it.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew, type Place, type Setting } from '../lib/api';
  import { opened } from '../lib/opened';
  import { asks, changed } from '../lib/queries';
  import { settingLabel, settingText, settingValue } from '../lib/setting';
  import Field from './Field.svelte';
  import FormField from './FormField.svelte';
  import Trouble from './Trouble.svelte';

  const {
    place,
    onsaved,
    oncancel,
  }: { place?: Place; onsaved: (name: string, test: boolean) => void; oncancel: () => void } = $props();
  const client = useQueryClient();
  const guard = untrack(() => (place ? beganFrom(place.revision) : toBeNew));
  const protocols = createQuery(() => asks.protocols());
  let picked = $state('');
  const protocol = $derived(picked || place?.protocol || 'smtp');
  const described = $derived(protocols.data?.find((one) => one.name === protocol));
  const settings = $derived((place?.protocol === protocol ? place.settings : {}) as Record<string, unknown>);
  const first = $derived((described?.settings ?? []).filter((s) => !s.further));
  const further = $derived((described?.settings ?? []).filter((s) => s.further));
  let key = $state('');
  let sure = $state(false);

  async function readKey(files: FileList | null) {
    key = (await files?.[0]?.text()) ?? '';
  }
  const save = createMutation(() => ({
    meta: { says: 'The destination is saved.' },
    mutationFn: async ({ form, test }: { form: FormData; test: boolean }) => {
      const text = (name: string) => String(form.get(name) ?? '');
      const name = place?.name ?? text('name').trim();
      const told: Record<string, unknown> = {};
      for (const s of described?.settings ?? []) {
        const value = settingValue(s, text(`set-${s.name}`));
        if (value !== undefined) told[s.name] = value;
      }
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
      onsaved(name, test);
    },
  }));
  const remove = createMutation(() => ({
    meta: { says: 'The destination is removed.' },
    mutationFn: () =>
      body(
        api.DELETE('/api/destinations/{name}', { params: { path: { name: place?.name ?? '' } }, ...guard }),
      ),
    onSuccess: async () => {
      await changed(client, 'destination');
      oncancel();
    },
  }));
  const help = (s: Setting) => s.doc.charAt(0).toUpperCase() + s.doc.slice(1) + '.';
</script>

{#snippet field(s: Setting)}
  {@const value = settingText(settings[s.name])}
  {@const several = ['list', 'pairs', 'block'].includes(s.form)}
  <FormField
    label={settingLabel(s.name) + (s.needed ? ' *' : '')}
    name="set-{s.name}"
    help={help(s)}
    form={several ? 'lines' : (s.form as 'text' | 'number' | 'choice')}
    choices={s.choices}
    none="left out"
    hint={s.form === 'pairs' ? 'Name: value' : ''}
    rows={Math.min(value.split('\n').length, 5)}
    needed={s.needed}
    {value}
  />
{/snippet}

{#if protocols.isError}<Trouble error={protocols.error} />{/if}
<form
  {@attach opened(oncancel)}
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
    {#each first as s (`${protocol} ${s.name}`)}{@render field(s)}{/each}
    {#if described?.password}
      {@const doc = help(described.password)}
      <FormField
        label="Password"
        name="password"
        form="password"
        help="{doc} It is kept encrypted and never shown.{place?.sealed
          ? ' The one that is there stays when this is empty.'
          : ''}"
      />
      {#if described.password.form === 'block'}
        <Field label="or a key" help={key ? `Read, ${key.length} characters.` : 'A file with a private key.'}>
          {#snippet children(names)}
            <input
              {...names}
              type="file"
              class="text-[13px]"
              onchange={(e) => void readKey(e.currentTarget.files)}
            />
          {/snippet}
        </Field>
      {/if}
    {/if}
  </div>
  {#if further.length}
    <details open={further.some((s) => settings[s.name] !== undefined)}>
      <summary class="cursor-pointer text-[13px] font-semibold"
        >Further settings: {further.map((s) => settingLabel(s.name)).join(', ')}</summary
      >
      <div class="mt-2 grid gap-x-8 gap-y-2 xl:grid-cols-2">
        {#each further as s (`${protocol} ${s.name}`)}{@render field(s)}{/each}
      </div>
    </details>
  {/if}
  {#if save.isError}<Trouble error={save.error} />{/if}
  {#if remove.isError}<Trouble error={remove.error} />{/if}
  <div class="flex flex-wrap items-center gap-2">
    <button class="btn btn-primary" value="test" disabled={save.isPending}>Save and test it</button>
    <button class="btn" value="save" disabled={save.isPending}>Save</button>
    <button class="btn" type="button" onclick={oncancel}
      >{place ? 'Leave it as it is' : 'Do not add it'}</button
    >
    <span class="flex-1"></span>
    {#if place}
      {#if sure}
        <span>Removed with its password; nothing brings it back.</span>
        <button class="btn" type="button" onclick={() => remove.mutate()} disabled={remove.isPending}
          >Remove {place.name}</button
        >
      {:else}
        <button class="btn" type="button" onclick={() => (sure = true)}>Remove …</button>
      {/if}
    {/if}
  </div>
</form>
