<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import Trouble from '../components/Trouble.svelte';
  import { asks } from '../lib/queries';
  import { isAdministrator } from '../lib/me.svelte';
  import { navigate, p } from '../router';

  const list = createQuery(() => asks.calendars());
  let name = $state('');
</script>

<svelte:head><title>Calendars · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-center gap-3.5">
  <h1>Calendars</h1>
  <span class="soft">Which days are open and closed. A job names those that it goes by.</span>
  <span class="flex-1"></span>
  {#if isAdministrator()}
    <form
      class="flex gap-2"
      onsubmit={(e) => {
        e.preventDefault();
        if (name.trim()) navigate('/calendars/:calendar', { params: { calendar: name.trim() } });
      }}
    >
      <label class="contents"
        ><span class="sr-only">Name of a new calendar</span><input
          class="input input-sm bg-base-100 w-52"
          placeholder="Name of a new calendar"
          bind:value={name}
        /></label
      >
      <button class="btn" disabled={!name.trim()}>Add</button>
    </form>
  {/if}
</div>
{#if list.isError}<Trouble error={list.error} />{/if}
{#if list.data?.length}
  <div class="panel overflow-x-auto">
    <table class="grid-list">
      <thead
        ><tr><th>Calendar</th><th>Open</th><th>Next closed days</th><th>Jobs</th><th>Names days until</th></tr
        ></thead
      >
      <tbody>
        {#each list.data as c (c.name)}
          <tr>
            <td
              ><a class="font-semibold" href={p('/calendars/:calendar', { params: { calendar: c.name } })}
                >{c.name}</a
              ></td
            >
            <td>{c.week?.length ? c.week.join(', ') : 'mon to fri'}</td>
            <td>
              {#each c.closings.slice(0, 3) as d (d.date)}<div>
                  <span class="mono">{d.date}</span>
                  {d.label}
                </div>{:else}<span class="soft">none in the coming year</span>{/each}
            </td>
            <td>{c.jobs}</td>
            <td>{c.last ?? 'no end'}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{:else if list.data}
  <p>
    There is no calendar yet. Without one, Monday to Friday are open, holidays too.
    {#if isAdministrator()}Give one a name above; then read an .ics file, or add its days by hand.{:else}An
      administrator can add one.{/if}
  </p>
{/if}
