<script lang="ts">
  // What holds of all rules.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { number, text } from '../../lib/form';
  import { asks } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import Trouble from '../Trouble.svelte';

  const when = createQuery(() => asks.setting('when', () => body(api.GET('/api/settings/when'))));
  const days = ['monday', 'tuesday', 'wednesday', 'thursday', 'friday', 'saturday', 'sunday'] as const;
</script>

{#if when.isError}<Trouble error={when.error} />{/if}
{#if when.data}
  {@const w = when.data}
  <SettingsForm
    title="Rules"
    about="Jobs that ring more often than the least time keep their rules until they are saved again."
    save={(form) =>
      body(
        api.PUT('/api/settings/when', {
          body: {
            floor: text(form, 'floor'),
            many: number(form, 'many'),
            week_start: text(form, 'week_start') as (typeof days)[number] | undefined,
          },
        }),
      )}
  >
    <FormField
      label="Least time between"
      name="floor"
      help="Shortest time that a rule may leave between two rings."
      value={w.floor ?? ''}
      hint="1m"
    />
    <FormField
      label="Warn from"
      name="many"
      help="Rings a day from which the editor warns."
      value={String(w.many ?? '')}
      hint="288"
    />
    <FormField
      label="Week begins on"
      name="week_start"
      form="choice"
      choices={[...days]}
      none="monday"
      help="For moments such as start of week."
      value={w.week_start ?? ''}
    />
  </SettingsForm>
{/if}
