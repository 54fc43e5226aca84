<script lang="ts">
  import { changed } from '../lib/queries';
  // One group of settings with its fields, its button, and how it went last.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import type { Snippet } from 'svelte';
  import { isAdministrator, myZone } from '../lib/me.svelte';
  import Trouble from './Trouble.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const {
    title,
    about,
    save,
    last,
    children,
  }: {
    title: string;
    about: string;
    save: (form: FormData) => Promise<unknown>;
    last?: { at?: string; word?: string };
    children: Snippet;
  } = $props();
  const client = useQueryClient();
  const saving = createMutation(() => ({
    mutationFn: save,
    onSuccess: () => changed(client, 'settings'),
  }));
</script>

<section class="panel px-3.5 py-3">
  <h2>{title}</h2>
  <p class="soft mb-2 max-w-4xl">{about}</p>
  <form
    aria-label={title}
    onsubmit={(e) => {
      e.preventDefault();
      saving.mutate(new FormData(e.currentTarget));
    }}
  >
    <fieldset disabled={!isAdministrator()} class="grid gap-x-8 gap-y-2 xl:grid-cols-2">
      <legend class="sr-only">{title}</legend>
      {@render children()}
    </fieldset>
    <div class="mt-2.5 flex flex-wrap items-center gap-3">
      {#if isAdministrator()}<button class="btn btn-primary" disabled={saving.isPending}>Save</button>{/if}
      {#if saving.isSuccess}<span role="status">Saved.</span>{/if}
      {#if last?.at}<span class="soft"
          >Last <ZonedTime at={last.at} zone={myZone()} seconds />: {last.word}</span
        >{/if}
    </div>
    {#if saving.isError}<div class="mt-2"><Trouble error={saving.error} /></div>{/if}
  </form>
</section>
