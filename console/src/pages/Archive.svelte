<script lang="ts">
  // What a job made and what is kept of it: by date and version, looked at in place, compared, linked.
  import { createInfiniteQuery, createQuery } from '@tanstack/svelte-query';
  import { SvelteSet } from 'svelte/reactivity';
  import ArchiveRun from '../components/archive/ArchiveRun.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { mayChange } from '../lib/me.svelte';
  import { param } from '../lib/param';
  import { asks } from '../lib/queries';
  import { p, route } from '../router';

  const name = $derived(param(route.params.job));
  const job = createQuery(() => asks.job(name));
  const pages = createInfiniteQuery(() => asks.archive(name));
  const runs = $derived(pages.data?.pages.flatMap((one) => one.runs) ?? []);
  const days = $derived(pages.data?.pages[0]?.days);
  const may = $derived(job.data ? mayChange(job.data.owner) : false);
  /** Which file is looked at. */
  let shown = $state<{ id: number; name: string }>();
  const picked = new SvelteSet<string>();
  function pick(run: string) {
    if (picked.has(run)) picked.delete(run);
    else picked.add(run);
  }
  const two = $derived([...picked].sort((a, b) => at(b) - at(a)));
  const at = (run: string) => runs.length - runs.findIndex((r) => r.run === run);
</script>

<svelte:head><title>Archive of {name} · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <span class="soft min-w-0 break-words"
    ><a href={p('/jobs')}>Jobs</a> / <a href={p('/jobs/:job', { params: { job: name } })}>{name}</a> /</span
  >
  <h1>Archive</h1>
  {#if days}<span class="soft">Files are kept for {days} days.</span>{/if}
  <span class="flex-1"></span>
  {#if two.length === 2}<a
      class="btn"
      href="{p('/runs/:run/compare', { params: { run: two[0] ?? '' } })}?{new URLSearchParams({
        with: two[1] ?? '',
      })}">Compare the two</a
    >{:else}<span class="soft text-[13px]">Choose two to compare their rows.</span>{/if}
</div>
{#if pages.isError}<Trouble error={pages.error} />{/if}
<div class="grid items-start gap-3.5 {shown ? 'xl:grid-cols-2' : ''}">
  <div class="grid gap-2.5">
    {#each runs as run (run.run)}
      <ArchiveRun
        {run}
        {may}
        chosen={picked.has(run.run)}
        full={picked.size >= 2}
        looking={shown?.id}
        onpick={() => pick(run.run)}
        onlook={(file) => (shown = file)}
      />
    {:else}
      {#if pages.data}<p class="soft">
          Nothing is kept: the job has made no file yet, or they were kept for long enough. “Ring now” on its
          page makes some.
        </p>{/if}
    {/each}
    {#if pages.hasNextPage}<button
        class="btn justify-self-start"
        disabled={pages.isFetchingNextPage}
        onclick={() => void pages.fetchNextPage()}>Show older ones</button
      >{/if}
  </div>
  {#if shown}
    <section class="panel sticky top-3 px-3.5 py-3">
      <div class="flex items-baseline gap-3">
        <h2 class="min-w-0 break-words">{shown.name}</h2>
        <span class="flex-1"></span>
        <a class="edit-link" href="/api/files/{shown.id}" download>Fetch it</a>
        <button class="edit-link" onclick={() => (shown = undefined)}>Close</button>
      </div>
      {#key shown.id}<iframe
          class="border-base-300 mt-2 h-[70vh] w-full rounded border bg-white"
          title={shown.name}
          src="/api/files/{shown.id}/look"
        ></iframe>{/key}
    </section>
  {/if}
</div>
