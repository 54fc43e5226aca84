<script lang="ts">
  // A subscription to add or to change: which events of ours go where.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew, type Subscription } from '../../lib/api';
  import { text } from '../../lib/form';
  import { opened, whileHere } from '../../lib/opened';
  import { chosen, publishedTypes, wants } from '../../lib/published';
  import { asks, changed } from '../../lib/queries';
  import FormField from '../FormField.svelte';
  import Trouble from '../Trouble.svelte';

  const { subscription, onclose }: { subscription?: Subscription; onclose: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const guard = untrack(() => (subscription ? beganFrom(subscription.revision) : toBeNew));
  const before = untrack(() => subscription?.types ?? []);
  const destinations = createQuery(() => asks.destinations());
  const places = $derived((destinations.data ?? []).filter((d) => d.protocol === 'http').map((d) => d.name));
  const save = createMutation(() => ({
    meta: { says: subscription ? 'The subscription is saved.' : 'The subscription is added.' },
    mutationFn: (form: FormData) =>
      body(
        api.PUT('/api/subscriptions/{name}', {
          params: { path: { name: subscription?.name ?? text(form, 'name') ?? '' } },
          body: {
            note: text(form, 'note'),
            destination: text(form, 'destination') ?? '',
            types: chosen(form.getAll('types').map(String), before),
            only_if: text(form, 'only_if'),
            off: form.has('off'),
          },
          ...guard,
        }),
      ),
    onSuccess: async () => {
      await changed(client, 'subscription');
      close();
    },
  }));
</script>

<form
  {@attach opened(onclose)}
  class="my-2 grid max-w-3xl gap-2"
  aria-label={subscription ? `Change ${subscription.name}` : 'Add a subscription'}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(new FormData(e.currentTarget));
  }}
>
  {#if !subscription}<FormField label="Name *" name="name" help="Such as Duty office." needed />{/if}
  <FormField
    label="What it is"
    name="note"
    value={subscription?.note ?? ''}
    help="Which program, and whose."
  />
  {#key places.length}<FormField
      label="Goes to *"
      name="destination"
      form="choice"
      choices={places}
      none="Choose a destination"
      value={subscription?.destination ?? ''}
      help="An HTTP address whose password is a key: each event is signed with it, so that the program can tell it is ours."
    />{/key}
  <fieldset class="grid gap-1 sm:grid-cols-[11rem_1fr] sm:gap-2">
    <legend class="contents"
      ><span class="flex min-h-7 items-center self-start text-[13px] font-semibold">Is told of *</span
      ></legend
    >
    <div class="grid gap-1">
      {#each publishedTypes as [kind, words] (kind)}
        <label class="flex min-h-6 items-baseline gap-2">
          <input type="checkbox" name="types" value={kind} checked={wants(before, kind)} />
          <span>{words} <span class="soft mono text-[13px] break-all">{kind}</span></span>
        </label>
      {/each}
    </div>
  </fieldset>
  <FormField
    label="Only if"
    name="only_if"
    value={subscription?.only_if ?? ''}
    hint="event.data.state == 'failed'"
    help="What must hold of an event; everything of these kinds when it is left empty."
  />
  {#if subscription}
    <label class="flex items-baseline gap-2 sm:pl-[11.5rem]">
      <input type="checkbox" name="off" checked={subscription.off} />
      <span>Off: nothing goes out. What happens meanwhile follows when it is on again.</span>
    </label>
  {/if}
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}
      >{subscription ? 'Save the subscription' : 'Add the subscription'}</button
    >
    <button class="btn" type="button" onclick={onclose}
      >{subscription ? 'Leave it as it is' : 'Do not add it'}</button
    >
  </div>
</form>
