<script lang="ts">
  // Parts of runs that work, or that wait in the order of their turn.
  import type { QueueLine } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { p } from '../../router';
  import ZonedTime from '../ZonedTime.svelte';

  const {
    title,
    lines,
    more = 0,
    empty,
  }: { title: string; lines: QueueLine[]; more?: number; empty: string } = $props();
</script>

<section class="panel px-3.5 py-3">
  <h2>{title} <span class="soft font-normal">{lines.length + more || ''}</span></h2>
  {#if lines.length}
    <div class="overflow-x-auto">
      <table class="grid-list">
        <thead
          ><tr
            ><th>Run</th><th>Job</th><th>Due</th><th>{title === 'Works' ? 'Since' : 'May begin'}</th><th
              >Why</th
            ></tr
          ></thead
        >
        <tbody>
          {#each lines as l (`${l.run} ${l.part}`)}
            <tr>
              <td
                ><a class="underline" href={p('/runs/:run', { params: { run: l.run } })}>{l.run}</a
                >{#if l.part > 1}<span class="soft"> part {l.part}</span>{/if}</td
              >
              <td
                ><a href={p('/jobs/:job', { params: { job: String(l.job_id) } })}>{l.job}</a
                >{#if l.rehearsal}<span class="soft"> rehearsal</span>{/if}</td
              >
              <td><ZonedTime at={l.due} zone={myZone()} /></td>
              <td><ZonedTime at={l.started_at ?? l.ready_at} zone={myZone()} /></td>
              <td class="min-w-0 break-words">{l.reason}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if more > 0}<p class="soft">and {more} more behind them.</p>{/if}
  {:else}<p class="soft">{empty}</p>{/if}
</section>
