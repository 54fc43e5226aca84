<script lang="ts">
  // What holds for the whole installation: how alerts go out, what all mails have
  // in common, where bounces come back to, and the sign of life.
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import Field from '../components/Field.svelte';
  import FormField from '../components/FormField.svelte';
  import SettingsForm from '../components/SettingsForm.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { api, body } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { isAdministrator, myZone } from '../lib/me.svelte';
  import { p } from '../router';

  const client = useQueryClient();
  // Some are read only when others have come; by itself a query tells of what was
  // read before.
  const fetched = <T,>(key: string, call: () => Promise<T>) => createQuery(() => asks.setting(key, call));
  const destinations = fetched('destinations', () => body(api.GET('/api/destinations')));
  const alerts = fetched('alerts', () => body(api.GET('/api/settings/alerts')));
  const mail = fetched('mail', () => body(api.GET('/api/settings/mail')));
  const bounces = fetched('bounces', () => body(api.GET('/api/settings/bounces')));
  const beat = fetched('heartbeat', () => body(api.GET('/api/settings/heartbeat')));
  const keeping = fetched('keeping', () => body(api.GET('/api/settings/keeping')));
  const copy = createQuery(() => asks.copy());
  const programs = fetched('programs', () => body(api.GET('/api/settings/programs')));
  const most = 1000;
  const silent = fetched('silent', () =>
    body(api.GET('/api/deliveries', { params: { query: { kept_back: 'silent', limit: most } } })),
  );
  const held = $derived(silent.data?.length ?? 0);
  const of = (protocol: string) =>
    (destinations.data ?? []).filter((d) => d.protocol === protocol).map((d) => d.name);
  const text = (form: FormData, name: string) => String(form.get(name) ?? '').trim() || undefined;
  const number = (form: FormData, name: string) => Number(text(form, name) ?? 0) || undefined;

  let sending = $state<string>();
  const chosen = $derived(sending ?? mail.data?.sending ?? 'all');
  let trouble = $state<unknown>();
  async function tell(call: Promise<unknown>) {
    trouble = undefined;
    try {
      await call;
    } catch (error) {
      trouble = error;
    }
    await changed(client, 'settings');
  }
  const release = (send: boolean) => tell(body(api.POST('/api/deliveries/release', { body: { send } })));
  type Copied = 'all' | 'none';
  const sayCopy = (as: Copied) => tell(body(api.POST('/api/settings/copy', { body: { sending: as } })));
</script>

<svelte:head><title>Settings · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Settings</h1>
  <span class="soft">What holds for this whole installation. What is saved holds at once.</span>
</div>
{#if !isAdministrator()}
  <p>An administrator changes these.</p>
{/if}
{#each [alerts, mail, bounces, beat, keeping, copy, programs, destinations] as one, n (n)}
  {#if one.isError}<Trouble error={one.error} />{/if}
{/each}
{#if trouble}<Trouble error={trouble} />{/if}

{#if copy.data?.since}
  <section class="panel border-warning px-3.5 py-3">
    <h2>This is a copy</h2>
    <p>
      Known since <ZonedTime at={copy.data.since} zone={myZone()} />: {copy.data.why}. It stands still and
      sends nothing until you say what it is. A copy for tests acts on nothing outside itself; ironbell copy
      names what it may act on.
    </p>
    {#if isAdministrator()}
      <div class="mt-2 flex flex-wrap gap-2">
        <button class="btn" onclick={() => void sayCopy('none')}
          >It is for tests: work, but send nothing</button
        >
        <button class="btn" onclick={() => void sayCopy('all')}
          >It goes on in place of the first one, which is gone</button
        >
      </div>
    {/if}
  </section>
{/if}

{#if copy.data?.test}
  <p class="panel px-3.5 py-3">
    This is a copy for tests. Outside itself it acts on {copy.data.named?.length
      ? copy.data.named.join(', ')
      : 'nothing'}; mail goes as is said below.
  </p>
{/if}

{#if alerts.data && destinations.data}
  {@const a = alerts.data}
  <SettingsForm
    title="Alerts"
    about="The owner is told first, then the second owner, then the administrators; each step after its own time, until somebody takes the alert on."
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
      help="How long the owner has to take an alert on."
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
      help="All are told again while nobody takes the alert on."
      value={a.repeat ?? ''}
      hint="4h"
    />
  </SettingsForm>
{/if}

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
            sending: text(form, 'sending') as 'all',
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
{#if held > 0}
  <section class="panel border-warning px-3.5 py-3">
    <h2>Kept back while nothing left</h2>
    <p>
      <a class="underline" href="{p('/deliveries')}?kept=silent"
        >{held === most ? `${most} or more` : held} {held === 1 ? 'delivery' : 'deliveries'}</a
      > wait since this installation sent nothing like them.
    </p>
    {#if isAdministrator()}
      <div class="mt-2 flex gap-2">
        <button class="btn" onclick={() => void release(true)}>Send them now</button>
        <button class="btn" onclick={() => void release(false)}>Drop them: they fail for good</button>
      </div>
    {/if}
  </section>
{/if}

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
            security: text(form, 'security') as 'tls',
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
      choices={['tls', 'starttls', 'none']}
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

{#if programs.data?.allowed}
  <section class="panel px-3.5 py-3" class:border-warning={programs.data.open}>
    <h2>Programs</h2>
    <p class="soft">What tasks run beside the service on {programs.data.node}, and what keeps them apart.</p>
    {#each programs.data.walls as wall (wall)}
      <p>{wall}</p>
    {/each}
  </section>
{/if}
