<script lang="ts">
  // To whom a report is open, folded until somebody wants it.
  import type { Written } from '../../lib/editing/hint';
  import Fields from './Fields.svelte';
  import Ledger from './Ledger.svelte';

  let { record = $bindable() }: { record: Written } = $props();
</script>

<Ledger title="Own schedules">
  <details>
    <summary class="soft min-h-7 cursor-pointer text-[13px]"
      >Who may have it sent to themselves by a schedule of their own</summary
    >
    <div class="pt-2"><Fields of="ReportRequest" bind:record path="" only={['schedulers']} /></div>
  </details>
</Ledger>
