<script lang="ts">
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import NextAndLast from '../components/NextAndLast.svelte';
  import Choose from '../components/records/Choose.svelte';
  import Chosen from '../components/records/Chosen.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body, type JobLine } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { mayBegin, mayChange } from '../lib/me.svelte';
  import { p } from '../router';

  const client = useQueryClient();
  const search = $derived(String(searchParams.get('search') ?? ''));
  const only = $derived(String(searchParams.get('only') ?? ''));
  const list = createQuery(() => asks.jobs());
  const chips: [string, string, (j: JobLine) => boolean][] = [
    ['on', 'On', (j) => j.on],
    ['off', 'Off', (j) => !j.on],
    ['failed', 'Last failed', (j) => j.last?.state === 'failed' || j.last?.state === 'partly'],
  ];
  const jobs = $derived(
    (list.data ?? []).filter(
      (j) =>
        (j.name + ' ' + j.owner).toLowerCase().includes(search.toLowerCase()) &&
        (chips.find(([key]) => key === only)?.[2](j) ?? true),
    ),
  );
  let chosen = $state<string[]>([]);
  const turn = createMutation(() => ({
    meta: {
      says: (_: unknown, j: unknown) =>
        `The job “${(j as JobLine).name}” is ${(j as JobLine).on ? 'off' : 'on'}.`,
    },
    mutationFn: (j: JobLine) =>
      body(
        api.POST('/api/jobs/{job}/switch', { params: { path: { job: String(j.id) } }, body: { on: !j.on } }),
      ),
    onSuccess: () => changed(client, 'job'),
  }));

  function set(key: string, value: string) {
    if (value) searchParams.set(key, value, { replace: true });
    else searchParams.delete(key, undefined, { replace: true });
  }
</script>

<svelte:head><title>Jobs · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-3.5">
  <h1>Jobs</h1>
  {#if mayBegin()}<a class="btn btn-primary" href={p('/new/job')}>New job</a>{/if}
  <label class="contents">
    <span class="sr-only">Search jobs by name or owner</span>
    <input
      class="input input-sm bg-base-100 w-60"
      type="search"
      placeholder="Search name or owner"
      value={search}
      oninput={(e) => set('search', e.currentTarget.value)}
    />
  </label>
  {#each chips as [key, word] (key)}
    <button class="chip" aria-pressed={only === key} onclick={() => set('only', only === key ? '' : key)}
      >{word}</button
    >
  {/each}
  <span class="flex-1"></span>
  <span class="soft">{jobs.length} of {list.data?.length ?? 0}</span>
</div>
{#if list.isError}<Trouble error={list.error} />{/if}
{#if turn.isError}<Trouble error={turn.error} />{/if}
<Chosen kind="job" bind:names={chosen} />
{#if list.data}
  <div class="panel overflow-x-auto">
    <table class="grid-list">
      <thead>
        <tr><th>Job</th><th>When</th><th>Owner</th><th>Next ring</th><th>Last outcome</th><th>On</th></tr>
      </thead>
      <tbody>
        {#each jobs as j (j.id)}
          <tr>
            <td class="whitespace-nowrap"
              ><Choose name={j.name} may={mayChange(j.owner)} bind:names={chosen} /><a
                class="link-plain whitespace-normal"
                href={p('/jobs/:job', { params: { job: String(j.id) } })}>{j.name}</a
              ></td
            >
            <td>{j.readings.join('; ') || 'on demand only'}</td>
            <td>{j.owner}</td>
            <NextAndLast job={j} />
            <td>
              <input
                type="checkbox"
                class="toggle toggle-sm toggle-primary"
                aria-label="{j.name} rings"
                checked={j.on}
                disabled={!mayChange(j.owner) || turn.isPending}
                onchange={() => turn.mutate(j)}
              />
            </td>
          </tr>
        {:else}
          <tr
            ><td colspan="6" class="soft"
              >{list.data.length
                ? 'No job fits this search.'
                : 'There is no job yet. New job makes one, or Schedule this on a report.'}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  </div>
{/if}
