<script lang="ts">
  // What is frozen, or will be: nothing of it begins until then. An administrator freezes and lifts.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type WhatIfRequest } from '../../lib/api';
  import { text } from '../../lib/form';
  import { isAdministrator, myZone } from '../../lib/me.svelte';
  import { opened } from '../../lib/opened';
  import { asks, changed } from '../../lib/queries';
  import { fromField, zoneWord } from '../../lib/time';
  import FormField from '../FormField.svelte';
  import Field from '../Field.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';
  import WhatIf from '../whatif/WhatIf.svelte';
  import WhatIfButton from '../whatif/WhatIfButton.svelte';
  import Labels from './Labels.svelte';

  const client = useQueryClient();
  const list = createQuery(() => asks.freezes());
  let adding = $state(false);
  let label = $state('');
  let rings = $state<'wait' | 'pass over'>('wait');
  const what = (l: string) => (l === 'service' ? 'everything' : l.replace(':', ' '));
  const close = () => {
    adding = looking = false;
    label = '';
  };
  let form = $state<HTMLFormElement>();
  let looking = $state(false);
  /** The freeze as it is written, to be asked what it would do. */
  let asked = $state.raw<WhatIfRequest>();
  /** The number of the freeze of which it is asked what its end would do. */
  let lifting = $state<number>();
  function written(of: FormData) {
    const time = (name: string) => {
      const at = text(of, name);
      return at ? fromField(at, myZone()).toISOString() : undefined;
    };
    return { label, rings, from: time('from'), to: time('to'), reason: text(of, 'reason') };
  }
  const reads = () => (asked = form && label ? { freeze: written(new FormData(form)) } : undefined);
  $effect(() => {
    void [label, rings];
    reads();
  });
  const freeze = createMutation(() => ({
    meta: { says: 'It is frozen.' },
    mutationFn: (of: FormData) => body(api.POST('/api/freezes', { body: written(of) })),
    onSuccess: async () => {
      close();
      await changed(client, 'queue');
    },
  }));
  const lift = createMutation(() => ({
    meta: { says: 'The freeze is lifted.' },
    mutationFn: (id: number) =>
      body(api.POST('/api/freezes/{freeze}/lift', { params: { path: { freeze: id } } })),
    onSuccess: () => changed(client, 'queue'),
  }));
</script>

<section class="panel px-3.5 py-3">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Freezes</h2>
    <span class="flex-1"></span>
    {#if isAdministrator() && !adding}<button class="btn" onclick={() => (adding = true)}>Freeze …</button
      >{/if}
  </div>
  {#if adding}
    <form
      {@attach opened(close)}
      bind:this={form}
      class="my-2 grid gap-2"
      aria-label="Freeze"
      oninput={reads}
      onsubmit={(e) => {
        e.preventDefault();
        freeze.mutate(new FormData(e.currentTarget));
      }}
    >
      <Labels bind:label />
      {#each [['from', 'From', 'Now when it is empty.'], ['to', 'Until', 'Until it is lifted when it is empty.']] as const as [name, word, help] (name)}
        <Field label={word} help="{help} Times are of {zoneWord(myZone())}.">
          {#snippet children(names)}
            <input {...names} {name} type="datetime-local" class="input input-sm bg-base-100 w-full" />
          {/snippet}
        </Field>
      {/each}
      <Field
        label="What rings meanwhile"
        help={rings === 'wait'
          ? 'It waits, and begins when the freeze ends.'
          : 'It is passed over; the history says why.'}
      >
        {#snippet children(names)}
          <select {...names} class="select select-sm bg-base-100 w-full" bind:value={rings}>
            <option value="wait">waits</option>
            <option value="pass over">is passed over</option>
          </select>
        {/snippet}
      </Field>
      <FormField label="Reason" name="reason" help="Everybody who waits for it reads it." />
      {#if freeze.isError}<Trouble error={freeze.error} />{/if}
      <p class="soft text-[13px] sm:pl-[11.5rem]">
        Nothing of it begins from then on; what works goes on to its end. Alerts go out all the same.
      </p>
      <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
        <button class="btn btn-primary" disabled={!label || freeze.isPending}
          >{label ? `Freeze ${what(label)}` : 'Freeze it'}</button
        >
        <WhatIfButton bind:open={looking} disabled={!asked} />
        <button class="btn" type="button" onclick={close}>Freeze nothing</button>
      </div>
      {#if looking && asked}<WhatIf {asked} pause={500} />{/if}
    </form>
  {/if}
  {#if list.isError}<Trouble error={list.error} />{/if}
  {#if lift.isError}<Trouble error={lift.error} />{/if}
  <ul>
    {#each list.data ?? [] as f (f.id)}
      <li class="border-base-300 flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b py-1.5 last:border-0">
        <b>{what(f.label)}</b>
        <span
          >from <ZonedTime at={f.from} zone={myZone()} />{#if f.to}&nbsp;to <ZonedTime
              at={f.to}
              zone={myZone()}
            />{:else}&nbsp;until it is lifted{/if}; what rings {f.rings === 'wait'
            ? 'waits'
            : 'is passed over'}</span
        >
        <span class="soft">{[f.by, f.reason].filter(Boolean).join(': ')}</span>
        <span class="flex-1"></span>
        {#if isAdministrator()}<WhatIfButton
            bind:open={() => lifting === f.id, (open) => (lifting = open ? f.id : undefined)}
          /><button
            class="btn"
            aria-label="Lift the freeze of {what(f.label)}"
            disabled={lift.isPending}
            onclick={() => lift.mutate(f.id)}>Lift</button
          >{/if}
        {#if lifting === f.id}<div class="w-full"><WhatIf asked={{ lift: f.id }} /></div>{/if}
      </li>
    {:else}
      {#if list.data}<li class="soft">
          Nothing is frozen. A freeze holds back everything, a source, a destination or the jobs with a tag,
          such as while a server moves.
        </li>{/if}
    {/each}
  </ul>
</section>
