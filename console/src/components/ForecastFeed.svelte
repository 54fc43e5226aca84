<script lang="ts">
  // The personal link by which a calendar program reads the forecast.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../lib/api';
  import { myZone } from '../lib/me.svelte';
  import { asks, changed } from '../lib/queries';
  import Trouble from './Trouble.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const zone = myZone();
  const client = useQueryClient();
  const feed = createQuery(() => asks.feed());
  const link = createMutation(() => ({
    mutationFn: () => body(api.POST('/api/session/feed')),
    onSuccess: () => changed(client, 'feed'),
  }));
  const unlink = createMutation(() => ({
    meta: { says: 'The link is ended.' },
    mutationFn: () => body(api.DELETE('/api/session/feed')),
    onSuccess: () => {
      link.reset();
      return changed(client, 'feed');
    },
  }));
</script>

<section class="panel px-3.5 py-2.5">
  <h2>In your own calendar program</h2>
  {#if link.data?.address}
    <p>Subscribe to this address. It is shown only now; the one before has ended.</p>
    <input
      class="input input-sm bg-base-100 mono w-full"
      readonly
      aria-label="Your link to the forecast"
      value={link.data.address}
      onfocus={(e) => e.currentTarget.select()}
    />
  {:else if feed.data?.since}
    <p>You have had a link since <ZonedTime at={feed.data.since} {zone} />.</p>
  {:else}
    <p>A personal link shows the rings of the coming month in any program that reads iCalendar.</p>
  {/if}
  <p class="soft pt-1 text-[13px]">Whoever has the link sees the jobs' names and when they ring.</p>
  <div class="flex gap-2 pt-1.5">
    <button class="btn" disabled={link.isPending} onclick={() => link.mutate()}
      >{feed.data?.since ? 'Make a new link' : 'Make my link'}</button
    >
    {#if feed.data?.since}<button class="btn" onclick={() => unlink.mutate()}>End the link</button>{/if}
  </div>
  {#if link.isError}<Trouble error={link.error} />{/if}
</section>
