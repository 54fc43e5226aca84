<script lang="ts">
  // What a job can be told beside the usual: it stands folded until somebody wants it.
  import type { Written } from '../../lib/editing/hint';
  import Fields from './Fields.svelte';
  import Ledger from './Ledger.svelte';

  let { record = $bindable() }: { record: Written } = $props();

  const parts: [string, string, string[]][] = [
    ['A run for each value', 'Split', ['split']],
    [
      'Blank and unusual',
      'What counts, and what then',
      ['blank_then', 'usual', 'if_unusual', 'unusual_then', 'urgent'],
    ],
    ['Deliveries', 'When a place is down or silent', ['patience', 'give_up_after', 'if_unknown']],
    ['Open to joining', 'Who may get its mails by their own word', ['joiners']],
    [
      'Overlap, outage, limits',
      'Beside other work',
      ['overlap', 'after_outage', 'priority', 'delay', 'time_limit', 'run_limit', 'side_by_side'],
    ],
    ['Labels and keeping', 'To find it, and for how long', ['tags', 'keep', 'own']],
  ];
</script>

{#each parts as [title, note, only] (title)}
  <Ledger {title}>
    <details>
      <summary class="soft min-h-7 cursor-pointer text-[13px]">{note}</summary>
      <div class="pt-2"><Fields of="JobRequest" bind:record path="" {only} /></div>
    </details>
  </Ledger>
{/each}
