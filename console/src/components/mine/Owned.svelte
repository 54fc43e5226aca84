<script lang="ts">
  // Jobs and reports of whoever looks.
  import type { Mine } from '../../lib/api';
  import { p } from '../../router';
  import NextAndLast from '../NextAndLast.svelte';

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
              <NextAndLast job={j} />
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
