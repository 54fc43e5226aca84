<script lang="ts">
  // The frame of every page: where one is, where one can go, who one is.
  import { announced } from '../lib/announce.svelte';
  import { createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { untrack, type Snippet } from 'svelte';
  import { api, type Me } from '../lib/api';
  import { again, coming } from '../lib/coming.svelte';
  import { asks } from '../lib/queries';
  import { line } from '../lib/live.svelte';
  import { choose, theme, type Theme } from '../lib/theme.svelte';
  import { isActive, p } from '../router';
  import Bell from './Bell.svelte';
  import Trouble from './Trouble.svelte';

  const { me, children }: { me: Me; children: Snippet } = $props();
  const client = useQueryClient();
  const alerts = createQuery(() => asks.alerts());
  const copy = createQuery(() => asks.copy());
  // A page that stays open over an upgrade is of the version before.
  const loaded = untrack(() => me.version);
  const version = createQuery(() => asks.version());
  const upgraded = $derived(version.data !== undefined && version.data.version !== loaded);
  const open = $derived(alerts.data?.length ?? 0);

  // An editor takes the room: the pages fold to a spine beside it, until somebody wants them.
  const editing = $derived(
    (['/new/job', '/jobs/:job/change', '/new/report', '/reports/:report/change'] as const).some((at) =>
      isActive(at),
    ),
  );
  let unfolded = $state(false);
  $effect(() => {
    if (!editing) unfolded = false;
  });
  const folded = $derived(editing && !unfolded);

  async function signOut() {
    await api.DELETE('/api/session');
    client.clear();
    location.assign('/');
  }
</script>

{#snippet item(href: string, word: string, here: boolean, count = 0)}
  <a
    {href}
    aria-current={here ? 'page' : undefined}
    class="flex justify-between rounded-[5px] px-2 py-[5px] {here
      ? 'bg-secondary text-secondary-content font-semibold'
      : 'hover:bg-base-300/60'}"
  >
    {word}
    {#if count}<span class="text-error font-semibold" aria-label="{count} open alerts">{count}</span>{/if}
  </a>
{/snippet}

<a
  href="#main"
  class="btn btn-primary absolute top-1 left-1 z-50 -translate-y-20 focus:translate-y-0"
  onclick={(e) => {
    e.preventDefault();
    document.querySelector('main')?.focus();
  }}>Skip to the page</a
>
<p
  role="status"
  class="bg-base-content text-base-100 fixed bottom-4 left-1/2 z-40 -translate-x-1/2 rounded px-4 py-2 text-[13px] shadow-lg {announced()
    ? ''
    : 'pointer-events-none opacity-0'}"
>
  {announced()}
</p>
{#if coming.shown || coming.failed}
  <p
    role="status"
    class="bg-base-100 border-base-300 fixed top-2 left-1/2 z-40 flex -translate-x-1/2 items-center gap-3 rounded border px-4 py-2 text-[13px] shadow-lg"
  >
    {#if coming.failed}The page did not come: the service does not answer.
      <button type="button" class="edit-link" onclick={again}>Ask for it again</button>
    {:else}Loading the page …{/if}
  </p>
{/if}
<div class="flex min-h-screen max-md:flex-col">
  {#if folded}
    <nav
      aria-label="Pages"
      class="bg-base-200 border-base-300 flex w-10 flex-none flex-col items-center gap-4 border-r py-3.5 max-md:w-full max-md:flex-row max-md:px-3 md:sticky md:top-0 md:h-screen"
    >
      <a href={p('/')} aria-label="Today"><Bell /></a>
      <button
        class="text-primary cursor-pointer font-semibold md:[writing-mode:vertical-rl]"
        aria-expanded="false"
        onclick={() => (unfolded = true)}>All pages</button
      >
    </nav>
  {/if}
  <nav
    aria-label="Pages"
    hidden={folded}
    class="bg-base-200 border-base-300 {folded
      ? ''
      : 'flex'} w-[176px] flex-none flex-col gap-px border-r px-[10px] py-3.5 max-md:w-full max-md:flex-row max-md:flex-wrap max-md:border-r-0 max-md:border-b md:sticky md:top-0 md:h-screen"
  >
    <div class="flex items-center gap-2 px-2 pb-3.5 text-base font-bold max-md:pb-0"><Bell />Iron Bell</div>
    {@render item(p('/'), 'Today', isActive('/'), open)}
    {@render item(p('/mine'), 'Mine', isActive('/mine'))}
    {@render item(p('/jobs'), 'Jobs', isActive.startsWith('/jobs'))}
    {@render item(p('/runs'), 'Runs', isActive.startsWith('/runs'))}
    {@render item(p('/queue'), 'Queue', isActive('/queue'))}
    {@render item(p('/events'), 'Events', isActive('/events'))}
    {@render item(p('/deliveries'), 'Deliveries', isActive('/deliveries'))}
    {@render item(p('/forecast'), 'Forecast', isActive('/forecast') || isActive('/when'))}
    {@render item(p('/reports'), 'Reports', isActive.startsWith('/reports'))}
    {@render item(p('/sources'), 'Sources', isActive.startsWith('/sources'))}
    {@render item(p('/destinations'), 'Destinations', isActive('/destinations'))}
    {@render item(p('/calendars'), 'Calendars', isActive.startsWith('/calendars'))}
    {@render item(p('/people'), 'People', isActive('/people'))}
    {@render item(p('/settings'), 'Settings', isActive.startsWith('/settings'))}
    <div class="flex-1"></div>
    <div class="soft flex flex-col gap-2 px-2 text-[13px] max-md:flex-row max-md:items-center">
      <label class="flex items-center justify-between gap-2">
        Theme
        <select
          class="border-base-300 rounded border bg-transparent px-1 py-px"
          value={theme.choice}
          onchange={(e) => choose(e.currentTarget.value as Theme)}
        >
          <option value="machine">machine</option>
          <option value="paper">paper</option>
          <option value="iron">iron</option>
        </select>
      </label>
      <span class="flex items-baseline justify-between gap-2">
        <span>{me.name}</span>
        <button class="cursor-pointer underline" onclick={signOut}>Sign out</button>
      </span>
      <span class="text-[11px] wrap-anywhere" title="Version of the service">{loaded}</span>
    </div>
  </nav>
  <main
    id="main"
    tabindex="-1"
    class="flex min-w-0 flex-1 flex-col gap-3.5 px-[22px] py-4 focus:outline-none max-md:px-3"
  >
    {#if !line.open}
      <p role="status" class="text-warning text-[13px] font-semibold">
        The line to the service is broken. What is shown may be old; it comes back by itself.
      </p>
    {/if}
    {#if upgraded}
      <p role="status" class="text-warning text-[13px] font-semibold">
        The service is now of another version than this page.
        <button type="button" class="edit-link" onclick={() => location.reload()}>Load the page again</button>
      </p>
    {/if}
    {#if copy.data?.since}
      <p role="status" class="text-warning font-semibold">
        This is a restored copy: it stands still and sends nothing until an administrator says what it is, in
        the <a class="underline" href={p('/settings')}>settings</a>.
      </p>
    {/if}
    <svelte:boundary>
      {@render children()}
      {#snippet failed(error, again)}
        <Trouble {error} />
        <p>
          This page could not be shown; what you wrote is kept as a draft.
          <button class="edit-link" onclick={again}>Show it again</button>
        </p>
      {/snippet}
    </svelte:boundary>
  </main>
</div>
