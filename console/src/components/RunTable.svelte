<script lang="ts">
  import type { Run } from '../lib/api';
  import { between, length } from '../lib/time';
  import { p } from '../router';
  import StateMark from './StateMark.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const { runs, jobs = true }: { runs: Run[]; jobs?: boolean } = $props();
</script>

<div class="panel overflow-x-auto">
  <table class="grid-list">
    <thead>
      <tr>
        <th>Run</th>
        {#if jobs}<th>Job</th>{/if}
        <th>State</th>
        <th>Due</th>
        <th class="!text-right">Took</th>
        <th>Why it is in this state</th>
      </tr>
    </thead>
    <tbody>
      {#each runs as r (r.id)}
        <tr>
          <td><a class="link-plain mono" href={p('/runs/:run', { params: { run: r.id } })}>{r.id}</a></td>
          {#if jobs}<td
              ><a class="link-plain" href={p('/jobs/:job', { params: { job: String(r.job_id) } })}>{r.job}</a
              ></td
            >{/if}
          <td
            >{#if r.rehearsal}<span class="chip mr-1.5">rehearsal</span>{/if}<StateMark state={r.state} /></td
          >
          <td><ZonedTime at={r.due} zone={r.zone} seconds /></td>
          <td class="!text-right whitespace-nowrap"
            >{r.started_at && r.ended_at ? length(between(r.started_at, r.ended_at)) : ''}</td
          >
          <td class="break-words">{r.reason}</td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
