<script lang="ts">
  // The settings of a source or a destination as fields, as the service describes them: those
  // that all need first, those that few need behind a press.
  import type { Setting } from '../../lib/api';
  import { settingLabel, settingText } from '../../lib/setting';
  import Field from '../Field.svelte';
  import FormField from '../FormField.svelte';
  import TablesField from './TablesField.svelte';

  const {
    of,
    described,
    password,
    values,
    sealed = false,
    onkey,
    read = 0,
  }: {
    of: string; // the protocol or driver: another one has other fields
    described: Setting[];
    password?: Setting;
    values: Record<string, unknown>;
    sealed?: boolean; // a password is kept
    onkey?: (text: string) => void; // a file with a key was chosen
    read?: number; // characters of the key that was read
  } = $props();
  const first = $derived(described.filter((s) => !s.further));
  const further = $derived(described.filter((s) => s.further));
  const help = (s: Setting) => s.doc.charAt(0).toUpperCase() + s.doc.slice(1) + '.';
</script>

{#snippet field(s: Setting)}
  {@const value = settingText(values[s.name])}
  {#if s.form === 'tables'}
    <TablesField setting={s} value={values[s.name] as Record<string, object> | undefined} />
  {:else if s.form === 'yes/no'}
    <Field label={settingLabel(s.name)} help={help(s)}>
      {#snippet children(names)}
        <input
          {...names}
          type="checkbox"
          class="checkbox checkbox-sm mt-1"
          name="set-{s.name}"
          value="true"
          checked={values[s.name] === true}
        />
      {/snippet}
    </Field>
  {:else}
    <FormField
      label={settingLabel(s.name) + (s.needed ? ' *' : '')}
      name="set-{s.name}"
      help={help(s)}
      form={['list', 'pairs', 'block'].includes(s.form) ? 'lines' : (s.form as 'text' | 'number' | 'choice')}
      choices={s.choices}
      none="left out"
      hint={s.form === 'pairs' ? 'Name: value' : ''}
      rows={Math.min(value.split('\n').length, 5)}
      needed={s.needed}
      {value}
    />
  {/if}
{/snippet}

{#each first as s (`${of} ${s.name}`)}{@render field(s)}{/each}
{#if password}
  <FormField
    label="Password"
    name="password"
    form="password"
    help="{help(password)} It is kept encrypted and never shown.{sealed
      ? ' The one that is there stays when this is empty.'
      : ''}"
  />
  {#if password.form === 'block' && onkey}
    <Field label="or a key" help={read ? `Read, ${read} characters.` : 'A file with a private key.'}>
      {#snippet children(names)}
        <input
          {...names}
          type="file"
          class="text-[13px]"
          onchange={async (e) => onkey((await e.currentTarget.files?.[0]?.text()) ?? '')}
        />
      {/snippet}
    </Field>
  {/if}
{/if}
{#if further.length}
  <details class="col-span-full" open={further.some((s) => values[s.name] !== undefined)}>
    <summary class="cursor-pointer text-[13px] font-semibold"
      >Further settings: {further.map((s) => settingLabel(s.name)).join(', ')}</summary
    >
    <div class="mt-2 grid gap-x-8 gap-y-2 xl:grid-cols-2">
      {#each further as s (`${of} ${s.name}`)}{@render field(s)}{/each}
    </div>
  </details>
{/if}
