<script lang="ts">
  // A program outside to add or to change: what it may send, and how fast.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew, type Sender } from '../../lib/api';
  import { number, text } from '../../lib/form';
  import { opened, whileHere } from '../../lib/opened';
  import { changed } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import Trouble from '../Trouble.svelte';

  const { sender, onclose }: { sender?: Sender; onclose: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const guard = untrack(() => (sender ? beganFrom(sender.revision) : toBeNew));
  const lines = untrack(() => sender?.sends.map((g) => `${g.type} ${g.source}`).join('\n') ?? '');
  /** Each line is a type and a source, with a blank between them. */
  const grantsOf = (written: string) =>
    written
      .split('\n')
      .map((line) => line.trim())
      .filter(Boolean)
      .map((line) => {
        const [type = '', ...source] = line.split(/\s+/);
        return { type, source: source.join(' ') };
      });
  const save = createMutation(() => ({
    meta: { says: sender ? 'The sender is saved.' : 'The sender is added.' },
    mutationFn: (form: FormData) =>
      body(
        api.PUT('/api/senders/{name}', {
          params: { path: { name: sender?.name ?? text(form, 'name') ?? '' } },
          body: {
            note: text(form, 'note'),
            sends: grantsOf(text(form, 'sends') ?? ''),
            type: text(form, 'type'),
            pace: number(form, 'pace'),
          },
          ...guard,
        }),
      ),
    onSuccess: async () => {
      await changed(client, 'sender');
      close();
    },
  }));
</script>

<form
  {@attach opened(onclose)}
  class="my-2 grid max-w-3xl gap-2"
  aria-label={sender ? `Change ${sender.name}` : 'Add a sender'}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(new FormData(e.currentTarget));
  }}
>
  {#if !sender}<FormField label="Name *" name="name" help="Such as Ledger office." needed />{/if}
  <FormField label="What it is" name="note" value={sender?.note ?? ''} help="Which program, and whose." />
  <FormField
    label="May send *"
    name="sends"
    form="lines"
    rows={Math.max(2, lines.split('\n').length)}
    value={lines}
    hint="example.tarnwick.ledger.closed https://ledger.tarnwick.example/"
    help="A line for each: a type, which may end with * for all that begin so, a blank, and the source that its events name."
    needed
  />
  <FormField
    label="Else its type"
    name="type"
    value={sender?.type ?? ''}
    help="The type of what it posts that is no CloudEvent and names none; nothing such is taken without one."
  />
  <FormField
    label="At most a minute"
    name="pace"
    form="number"
    value={sender?.pace ? String(sender.pace) : ''}
    hint="6000"
    help="Events at each node. What is faster is refused, with the time when it may go on."
  />
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}
      >{sender ? 'Save the sender' : 'Add the sender'}</button
    >
    <button class="btn" type="button" onclick={onclose}
      >{sender ? 'Leave it as it is' : 'Do not add it'}</button
    >
  </div>
</form>
