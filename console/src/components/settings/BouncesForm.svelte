<script lang="ts">
  // The mailbox that mails come back to.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { number, oneOf, text } from '../../lib/form';
  import { asks } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import Trouble from '../Trouble.svelte';

  const bounces = createQuery(() => asks.setting('bounces', () => body(api.GET('/api/settings/bounces'))));
  const securities = ['tls', 'starttls', 'none'] as const;
</script>

{#if bounces.isError}<Trouble error={bounces.error} />{/if}
{#if bounces.data}
  {@const b = bounces.data}
  <SettingsForm
    title="Bounces"
    about="The mailbox that mails come back to, read by IMAP. It is the return path of the mail server’s destination."
    last={b.last}
    save={(form) =>
      body(
        api.PUT('/api/settings/bounces', {
          body: {
            host: text(form, 'host') ?? '',
            port: number(form, 'port'),
            security: oneOf(text(form, 'security'), securities),
            user: text(form, 'user') ?? '',
            folder: text(form, 'folder'),
            ca: text(form, 'ca'),
            every: text(form, 'every'),
            password: String(form.get('password') ?? '') || undefined,
          },
        }),
      )}
  >
    <FormField label="Host" name="host" help="Name or address of the server." value={b.host} />
    <FormField label="User" name="user" help="Sign-in name." value={b.user} />
    <FormField
      label="Security"
      name="security"
      form="choice"
      choices={[...securities]}
      value={b.security ?? ''}
      none="tls, as usual"
    />
    <FormField
      label="Password"
      name="password"
      help="Kept encrypted and never shown; the one that is there stays when this is empty."
      form="password"
    />
    <FormField label="Port" name="port" value={String(b.port || '')} hint="993 with tls, otherwise 143" />
    <FormField label="Folder" name="folder" value={b.folder ?? ''} hint="INBOX" />
    <FormField label="Look every" name="every" value={b.every ?? ''} hint="1m" />
    <FormField
      label="CA"
      name="ca"
      help="Certificates to trust, in PEM."
      form="lines"
      value={b.ca ?? ''}
      rows={1}
    />
  </SettingsForm>
{/if}
