<script lang="ts">
  // Over which destinations alerts go, and how long each step has.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { text } from '../../lib/form';
  import { asks } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import Trouble from '../Trouble.svelte';

  // Some are read only when others have come; by itself a query tells of what was read before.
  const destinations = createQuery(() => asks.destinations());
  const alerts = createQuery(() => asks.setting('alerts', () => body(api.GET('/api/settings/alerts'))));
  const of = (protocol: string) =>
    (destinations.data ?? []).filter((d) => d.protocol === protocol).map((d) => d.name);
</script>

{#if alerts.isError}<Trouble error={alerts.error} />{/if}
{#if destinations.isError}<Trouble error={destinations.error} />{/if}
{#if alerts.data && destinations.data}
  {@const a = alerts.data}
  <SettingsForm
    title="Alerts"
    about="The owner is told first, then the second owner, then the administrators; each step after its own time, until somebody acknowledges the alert."
    save={(form) =>
      body(
        api.PUT('/api/settings/alerts', {
          body: {
            destination: text(form, 'destination') ?? '',
            standby: text(form, 'standby'),
            call: text(form, 'call'),
            second_after: text(form, 'second_after'),
            administrators_after: text(form, 'administrators_after'),
            call_after: text(form, 'call_after'),
            repeat: text(form, 'repeat'),
          },
        }),
      )}
  >
    <FormField
      label="Mail server"
      name="destination"
      help="That alerts go over."
      form="choice"
      choices={of('smtp')}
      value={a.destination}
      none="none: nobody can be told"
    />
    <FormField
      label="Standby"
      name="standby"
      help="Another mail server, for when the first one is down."
      form="choice"
      choices={of('smtp')}
      value={a.standby ?? ''}
      none="none"
    />
    <FormField
      label="Second owner after"
      name="second_after"
      help="How long the owner has to acknowledge an alert."
      value={a.second_after ?? ''}
      hint="15m"
    />
    <FormField
      label="Administrators after"
      name="administrators_after"
      help="How long those before have."
      value={a.administrators_after ?? ''}
      hint="30m"
    />
    <FormField
      label="Call"
      name="call"
      help="An HTTP destination that is called when nobody else has answered."
      form="choice"
      choices={of('http')}
      value={a.call ?? ''}
      none="none"
    />
    <FormField
      label="Call after"
      name="call_after"
      help="How long the administrators have."
      value={a.call_after ?? ''}
      hint="30m"
    />
    <FormField
      label="Once more after"
      name="repeat"
      help="All are told again while nobody acknowledges the alert."
      value={a.repeat ?? ''}
      hint="4h"
    />
  </SettingsForm>
{/if}
