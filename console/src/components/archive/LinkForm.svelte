<script lang="ts">
  // A link to files of a run, with who may follow it, and until when. It is shown once.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { SvelteSet } from 'svelte/reactivity';
  import { api, body, type Archived } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { opened } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import Field from '../Field.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { run, onclose }: { run: Archived; onclose: () => void } = $props();
  const client = useQueryClient();
  const first = untrack(() => run.files[0]?.part);
  const files = new SvelteSet(untrack(() => run.files.filter((f) => f.part === first).map((f) => f.id)));
  let audience = $state<'named' | 'house'>('named');
  let named = $state('');
  let days = $state('30');
  const whom = createQuery(() => asks.whom(audience === 'named' ? named : ''));
  const make = createMutation(() => ({
    meta: { says: 'The link is made. It is shown this once.' },
    mutationFn: () =>
      body(
        api.POST('/api/runs/{run}/links', {
          params: { path: { run: run.run } },
          body: { files: [...files], for: audience, named: [named], days: Number(days) || undefined },
        }),
      ),
    onSuccess: () => changed(client, 'run'),
  }));
</script>

<form
  {@attach opened(onclose)}
  class="mt-2 grid max-w-2xl gap-2"
  aria-label="Make a link"
  onsubmit={(e) => {
    e.preventDefault();
    make.mutate();
  }}
>
  {#if make.data}
    <p role="status">
      <b>{make.data.address}</b><br />
      <span class="soft"
        >For {make.data.words}, until <ZonedTime at={make.data.ends_at} zone={myZone()} />. Copy it now: it is
        not shown again.</span
      >
    </p>
    <div><button class="btn" type="button" onclick={onclose}>It is copied</button></div>
  {:else}
    {#if run.files.length > 1}
      <Field label="Files">
        {#snippet children(names)}
          <div {...names} role="group" aria-label="Files" class="grid">
            {#each run.files as f (f.id)}
              <label class="flex items-baseline gap-2"
                ><input
                  type="checkbox"
                  class="checkbox checkbox-xs self-center"
                  checked={files.has(f.id)}
                  onchange={() => (files.has(f.id) ? files.delete(f.id) : files.add(f.id))}
                />{f.name}{#if f.part_name}<span class="soft">{f.part_name}</span>{/if}</label
              >
            {/each}
          </div>
        {/snippet}
      </Field>
    {/if}
    <Field
      label="Who may follow it"
      help={audience === 'named'
        ? 'Only those whom you name, signed in as themselves. Whom no link lets in gets these files from the owner alone.'
        : 'Everybody who can sign in to Iron Bell.'}
    >
      {#snippet children(names)}
        <select {...names} class="select select-sm bg-base-100 w-full" bind:value={audience}>
          <option value="named">those whom I name</option>
          <option value="house">everybody who can sign in</option>
        </select>
      {/snippet}
    </Field>
    {#if audience === 'named'}
      <Field label="Named" help="Addresses, person:login, group:name, post:name or under:name.">
        {#snippet children(names)}
          <input {...names} class="input input-sm bg-base-100 w-full" bind:value={named} />
        {/snippet}
      </Field>
      {#if named.trim() && whom.data}<p role="status" class="text-[13px] sm:pl-[11.5rem]">
          <b>For {whom.data.addresses.length}:</b>
          {whom.data.addresses.slice(0, 12).join(', ') || 'nobody'}
          {#each whom.data.wrong ?? [] as w (w.sentence)}<span class="text-error block">{w.sentence}</span
            >{/each}
        </p>{/if}
    {/if}
    <Field label="Days until it ends">
      {#snippet children(names)}
        <input {...names} class="input input-sm bg-base-100 w-20" inputmode="numeric" bind:value={days} />
      {/snippet}
    </Field>
    {#if make.isError}<Trouble error={make.error} />{/if}
    <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
      <button class="btn btn-primary" disabled={make.isPending || files.size === 0}>Make the link</button>
      <button class="btn" type="button" onclick={onclose}>Make none</button>
    </div>
  {/if}
</form>
