<script lang="ts">
  // Jobs and reports of whoever looks.
  import type { Mine } from '../../lib/api';
  import { p } from '../../router';
  import StateMark from '../StateMark.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { jobs, reports }: Pick<Mine, 'jobs' | 'reports'> = $props();
</script>

<section class="panel px-3.5 py-3" aria-label="What you own">
  <h2>What you own</h2>
  {#if jobs.length}
    <div class="overflow-x-auto">
      <table class="grid-list">
        <thead><tr><th>Job</th><th>When</th><th>Next ring</th><th>Last outcome</th></tr></thead>
        <tbody>
          {#each jobs as j (j.id)}
            <tr>
              <td
                ><a class="link-plain" href={p('/jobs/:job', { params: { job: String(j.id) } })}>{j.name}</a
                ></td
              >
              <td>{j.readings.join('; ') || 'on demand only'}</td>
              <td>
                {#if j.next_due}<ZonedTime at={j.next_due} zone={j.zone} />{:else}<span class="soft"
                    >{j.on ? 'none' : 'off'}</span
                  >{/if}
              </td>
              <td>
                {#if j.last}<a href={p('/runs/:run', { params: { run: j.last.id } })} title={j.last.reason}
                    ><StateMark state={j.last.state} /></a
                  >{:else}<span class="soft">has not run yet</span>{/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
  {#if reports.length}
    <p class="mt-1.5 flex flex-wrap gap-x-3">
      <b>Reports</b>
      {#each reports as name (name)}<a
          class="underline"
          href={p('/reports/:report', { params: { report: name } })}>{name}</a
        >{/each}
    </p>
  {/if}
  {#if jobs.length + reports.length === 0}<p class="soft">No job and no report is yours.</p>{/if}
</section>
