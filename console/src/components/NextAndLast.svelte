<script lang="ts">
  // Two cells of a list of jobs: when it rings next, and how its last run ended.
  import type { JobLine } from '../lib/api';
  import { p } from '../router';
  import StateMark from './StateMark.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const { job }: { job: JobLine } = $props();
</script>

<td>
  {#if job.next_due}<ZonedTime at={job.next_due} zone={job.zone} />{:else}<span class="soft"
      >{job.on ? 'none' : 'off'}</span
    >{/if}
</td>
<td>
  {#if job.last}<a href={p('/runs/:run', { params: { run: job.last.id } })} title={job.last.reason}
      ><StateMark state={job.last.state} /></a
    >{:else}<span class="soft">has not run yet</span>{/if}
</td>
