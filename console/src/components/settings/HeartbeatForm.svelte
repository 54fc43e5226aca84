<script lang="ts">
  // Where a sign of life goes.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { text } from '../../lib/form';
  import { asks } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import Trouble from '../Trouble.svelte';

  const beat = createQuery(() => asks.setting('heartbeat', () => body(api.GET('/api/settings/heartbeat'))));
</script>

{#if beat.isError}<Trouble error={beat.error} />{/if}
{#if beat.data}
  {@const h = beat.data}
  <SettingsForm
    title="Sign of life"
    about="A service that is dead cannot call for help. Another program that misses this can."
    last={h.last}
    save={(form) =>
      body(
        api.PUT('/api/settings/heartbeat', {
          body: { url: text(form, 'url') ?? '', every: text(form, 'every') },
        }),
      )}
  >
    <FormField label="URL" name="url" help="Asked by GET. Empty: no sign is given." value={h.url} />
    <FormField label="Every" name="every" value={h.every ?? ''} hint="1m" />
  </SettingsForm>
{/if}
