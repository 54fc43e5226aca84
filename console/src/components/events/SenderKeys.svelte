<script lang="ts">
  // What a sender is known by: tokens and keys, made and ended here. What is made is shown once.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type Sender } from '../../lib/api';
  import { isAdministrator, myZone } from '../../lib/me.svelte';
  import { changed } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { sender }: { sender: Sender } = $props();
  const client = useQueryClient();
  let overlap = $state(24);
  const make = createMutation(() => ({
    meta: { says: 'It is made; copy it now.' },
    mutationFn: (kind: 'token' | 'key') =>
      body(
        api.POST('/api/senders/{name}/keys', {
          params: { path: { name: sender.name } },
          body: { kind, overlap_hours: overlap },
        }),
      ),
    onSuccess: () => changed(client, 'sender'),
  }));
  const end = createMutation(() => ({
    meta: { says: 'It is ended.' },
    mutationFn: (key: number) =>
      body(api.DELETE('/api/senders/{name}/keys/{key}', { params: { path: { name: sender.name, key } } })),
    onSuccess: () => changed(client, 'sender'),
  }));
  const address = $derived(`${window.location.origin}/api/senders/${encodeURIComponent(sender.name)}/events`);
</script>

<div class="my-1">
  {#if sender.keys.length}
    <ul>
      {#each sender.keys as k (k.id)}
        <li>
          {k.kind === 'token' ? 'Token' : 'Key that it signs with'}
          {k.id}, made <ZonedTime at={k.made_at} zone={myZone()} />{#if k.made_by}&nbsp;by {k.made_by}{/if}{#if k.ends_at},
            holds until <ZonedTime at={k.ends_at} zone={myZone()} />{/if}
          {#if isAdministrator()}<button
              class="edit-link ml-2"
              aria-label="End the {k.kind} {k.id} of {sender.name}"
              disabled={end.isPending}
              onclick={() => end.mutate(k.id)}>End it now</button
            >{/if}
        </li>
      {/each}
    </ul>
  {:else}<p class="text-warning">It is known by nothing yet, so it cannot send.</p>{/if}
  {#if isAdministrator()}
    <div class="flex flex-wrap items-center gap-2">
      <button class="btn btn-sm" disabled={make.isPending} onclick={() => make.mutate('token')}
        >Make a token</button
      >
      <button class="btn btn-sm" disabled={make.isPending} onclick={() => make.mutate('key')}
        >Make a key that it signs with</button
      >
      {#if sender.keys.length}
        <label class="flex items-center gap-1 text-[13px]"
          >the one of before holds on for
          <select class="select select-sm bg-base-100 w-28" bind:value={overlap}>
            <option value={0}>no time</option>
            <option value={24}>a day</option>
            <option value={168}>a week</option>
          </select>
        </label>
      {/if}
    </div>
  {/if}
  {#if make.data}
    <div role="status" class="border-base-300 bg-base-200 mt-1 rounded border px-3 py-2">
      <p><b>It is shown this once; copy it now:</b></p>
      <p class="mono break-all select-all">{make.data.secret}</p>
      <p class="text-[13px]">
        {make.data.kind === 'token'
          ? 'Send it as Authorization: Bearer to'
          : 'Sign with it, as Standard Webhooks has it, what is posted to'}
        <span class="mono break-all">{address}</span>
      </p>
    </div>
  {/if}
  {#if make.isError}<Trouble error={make.error} />{/if}
  {#if end.isError}<Trouble error={end.error} />{/if}
</div>
