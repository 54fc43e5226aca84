<script lang="ts">
  // The events that were reported or raised lately, with what each started.
  import { createQuery } from '@tanstack/svelte-query';
  import { myZone } from '../../lib/me.svelte';
  import { asks } from '../../lib/queries';
  import { p } from '../../router';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const list = createQuery(() => asks.events());
</script>

<section class="panel px-3.5 py-3">
  <h2>Events</h2>
  {#if list.isError}<Trouble error={list.error} />{/if}
  {#if list.data?.length}
    <div class="overflow-x-auto">
      <table class="grid-list">
        <thead><tr><th>Received</th><th>Type</th><th>Source</th><th>Data</th><th>Started</th></tr></thead>
        <tbody>
          {#each list.data as e (`${e.source} ${e.id}`)}
            <tr>
              <td><ZonedTime at={e.received} zone={myZone()} /></td>
              <td class="mono break-all"
                >{e.type}{#if e.subject}<br /><span class="soft">{e.subject}</span>{/if}</td
              >
              <td class="mono break-all"
                >{e.source}{#if e.run}<br /><a
                    class="underline"
                    href={p('/runs/:run', { params: { run: e.run } })}>run {e.run}</a
                  >{/if}</td
              >
              <td class="mono max-w-sm truncate text-[12px]"
                >{e.data === undefined ? '' : JSON.stringify(e.data)}</td
              >
              <td
                >{#each e.started as run (run)}<a
                    class="mr-2 underline"
                    href={p('/runs/:run', { params: { run } })}>{run}</a
                  >{:else}<span class="soft">nothing</span>{/each}</td
              >
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {:else if list.data}<p class="soft">
      No event was reported yet. A program reports one at <span class="mono">POST /api/events</span>, somebody
      by hand with <span class="mono">ironbell event</span>; a task of the kind emit raises one.
    </p>{/if}
</section>
