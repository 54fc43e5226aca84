<script lang="ts">
  // For how long is kept what belongs to no single job.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { number } from '../../lib/form';
  import { asks } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import Trouble from '../Trouble.svelte';

  const keeping = createQuery(() => asks.setting('keeping', () => body(api.GET('/api/settings/keeping'))));
</script>

{#if keeping.isError}<Trouble error={keeping.error} />{/if}
{#if keeping.data}
  {@const k = keeping.data}
  <SettingsForm
    title="What is kept"
    about="In days. Runs, logs and files are kept as their jobs say."
    save={(form) =>
      body(
        api.PUT('/api/settings/keeping', {
          body: {
            alerts: number(form, 'alerts'),
            audit: number(form, 'audit'),
            links: number(form, 'links'),
            events: number(form, 'events'),
          },
        }),
      )}
  >
    <FormField label="Closed alerts" name="alerts" value={String(k.alerts)} hint="400" />
    <FormField label="Changes" name="audit" help="Who changed what." value={String(k.audit)} hint="3660" />
    <FormField label="Links that ended" name="links" value={String(k.links)} hint="400" />
    <FormField label="Events" name="events" value={String(k.events)} hint="365" />
  </SettingsForm>
{/if}
