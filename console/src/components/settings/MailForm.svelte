<script lang="ts">
  // What all mails of jobs have in common, and what may leave.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { oneOf, text } from '../../lib/form';
  import { asks } from '../../lib/queries';
  import Field from '../Field.svelte';
  import FormField from '../FormField.svelte';
  import SettingsForm from '../SettingsForm.svelte';
  import Trouble from '../Trouble.svelte';

  const mail = createQuery(() => asks.setting('mail', () => body(api.GET('/api/settings/mail'))));
  let sending = $state<string>();
  const chosen = $derived(sending ?? mail.data?.sending ?? 'all');
</script>

{#if mail.isError}<Trouble error={mail.error} />{/if}
{#if mail.data}
  {@const m = mail.data}
  <SettingsForm
    title="Mail"
    about="What all mails of jobs have in common, where a job says nothing of its own."
    save={(form) =>
      body(
        api.PUT('/api/settings/mail', {
          body: {
            subject: text(form, 'subject'),
            body: String(form.get('body') ?? '') || undefined,
            reply_to: text(form, 'reply_to'),
            domains: text(form, 'domains')?.split(/[\s,;]+/),
            sending: oneOf(text(form, 'sending'), ['all', 'one address', 'none']),
            only_to: text(form, 'only_to'),
          },
        }),
      )}
  >
    <FormField
      label="Subject"
      name="subject"
      help={'With moving parts, such as {report}, {date:%d %B %Y}.'}
      value={m.subject ?? ''}
    />
    <FormField
      label="Answers go to"
      name="reply_to"
      help="When the job names nobody."
      value={m.reply_to ?? ''}
      form="email"
    />
    <FormField
      label="Body"
      name="body"
      help="Plain text with moving parts."
      form="lines"
      value={m.body ?? ''}
      rows={3}
    />
    <FormField
      label="Domains"
      name="domains"
      help="Mail for others waits for a second person’s yes. Empty: all."
      form="lines"
      value={(m.domains ?? []).join('\n')}
      rows={3}
    />
    <Field label="What leaves" help="An installation for tests sends nothing, or all to one address.">
      {#snippet children(names)}
        <select
          {...names}
          name="sending"
          class="select select-sm bg-base-100 w-full"
          value={chosen}
          onchange={(e) => (sending = e.currentTarget.value)}
        >
          <option value="all">everything, to those whom it is for</option>
          <option value="one address">all mails to one address, no files</option>
          <option value="none">nothing</option>
        </select>
      {/snippet}
    </Field>
    {#if chosen === 'one address'}
      <FormField
        label="The one address"
        name="only_to"
        help="Each mail says whom it was meant for."
        value={m.only_to ?? ''}
        form="email"
      />
    {/if}
  </SettingsForm>
{/if}
