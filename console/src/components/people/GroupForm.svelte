<script lang="ts">
  // A group of recipients to add or to change, with whom it comes to now.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import Field from '../Field.svelte';
  import FormField from '../FormField.svelte';
  import Trouble from '../Trouble.svelte';

  const {
    group,
    onclose,
  }: { group?: { name: string; members: string[]; revision?: number }; onclose: () => void } = $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const guard = untrack(() => (group ? beganFrom(group.revision) : toBeNew));
  let written = $state<string>();
  const text = $derived(written ?? group?.members.join('\n') ?? '');
  const whom = createQuery(() => asks.whom(text));
  const save = createMutation(() => ({
    meta: { says: 'The group is saved.' },
    mutationFn: (name: string) =>
      body(
        api.PUT('/api/groups/{name}', { params: { path: { name } }, body: { members: [text] }, ...guard }),
      ),
    onSuccess: async () => {
      await changed(client, 'group');
      close();
    },
  }));
</script>

<form
  {@attach opened(onclose)}
  class="grid max-w-3xl gap-2 py-2"
  aria-label={group ? `Change the group ${group.name}` : 'Add a group'}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(group?.name ?? String(new FormData(e.currentTarget).get('name') ?? '').trim());
  }}
>
  {#if group}
    <b>{group.name}</b>
  {:else}
    <FormField label="Name" name="name" help="Jobs write to it as group:name." needed />
  {/if}
  <Field
    label="Members"
    help="Addresses, person:login, group:name, post:name or under:name, separated by commas, semicolons or lines."
  >
    {#snippet children(names)}
      <textarea
        {...names}
        class="textarea bg-base-100 mono w-full py-1"
        rows={Math.min(Math.max(text.split('\n').length + 1, 3), 12)}
        value={text}
        oninput={(e) => (written = e.currentTarget.value)}></textarea>
    {/snippet}
  </Field>
  {#if whom.data && text.trim()}
    <div role="status" class="text-[13px] sm:pl-[11.5rem]">
      <p>
        <b>Comes to {whom.data.addresses.length} now:</b>
        {whom.data.addresses.slice(0, 12).join(', ') || 'nobody'}{whom.data.addresses.length > 12 ? ' …' : ''}
      </p>
      {#each whom.data.notes ?? [] as note (note)}<p class="soft">{note}</p>{/each}
      {#each whom.data.wrong ?? [] as w (w.sentence)}<p class="text-error">{w.sentence}</p>{/each}
    </div>
  {/if}
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}>Save the group</button>
    <button class="btn" type="button" onclick={onclose}
      >{group ? 'Leave it as it is' : 'Do not add it'}</button
    >
  </div>
</form>
