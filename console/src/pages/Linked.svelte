<script lang="ts">
  // What a link of a mail leads to: the files, who may see them, and until when.
  import { createQuery } from '@tanstack/svelte-query';
  import Trouble from '../components/Trouble.svelte';
  import { type Artifact } from '../lib/api';
  import { asks } from '../lib/queries';
  import { myZone } from '../lib/me.svelte';
  import { param } from '../lib/param';
  import { size } from '../lib/size';
  import { clock, fullDay, zoneWord } from '../lib/time';
  import { route } from '../router';

  const token = $derived(param(route.params.token));
  const link = createQuery(() => asks.link(token));
</script>

{#snippet file(f: Artifact)}
  <li class="flex min-h-7 flex-wrap items-baseline gap-3">
    {#if f.removed_at}<span class="line-through">{f.name}</span><span class="soft">was removed</span>
    {:else}<a class="underline" href="/api/links/{token}/files/{f.id}" download>{f.name}</a>{/if}
    <span class="soft">{size(f.size)}</span>
  </li>
{/snippet}

<svelte:head><title>{link.data?.job ?? 'Link'} · Iron Bell</title></svelte:head>

{#if link.isError}<Trouble error={link.error} />{/if}
{#if link.data}
  <h1>{link.data.job}</h1>
  <p class="soft">
    Run {link.data.run_id}. For {link.data.words}. The link ends on {fullDay(link.data.ends_at, myZone())} at {clock(
      link.data.ends_at,
      myZone(),
    )}
    {zoneWord(myZone(), link.data.ends_at).split(', ').pop()}.
  </p>
  <section class="panel px-3.5 py-3">
    <ul>
      {#each link.data.files as f (f.id)}{@render file(f)}
      {:else}<li class="soft">The files are not kept any more.</li>{/each}
    </ul>
  </section>
  {#if link.data.earlier?.length}
    <section class="panel px-3.5 py-3">
      <h2>Earlier runs</h2>
      <ul class="grid gap-x-5 sm:grid-cols-[12rem_1fr]">
        {#each link.data.earlier as v (v.run_id)}
          <li class="contents">
            <span class="flex min-h-7 items-baseline">{fullDay(v.due, v.zone)}, {clock(v.due, v.zone)}</span>
            <ul>
              {#each v.files as f (f.id)}{@render file(f)}{/each}
            </ul>
          </li>
        {/each}
      </ul>
    </section>
  {/if}
{/if}
