<script lang="ts">
  // The parts of a run that was divided.
  import type { RunPage } from '../../lib/api';
  import StateMark from '../StateMark.svelte';

  const { run }: { run: RunPage } = $props();
  const parts = $derived(run.parts ?? []);
</script>

<section>
  <h2>
    {run.part_count.toLocaleString('en-GB')} parts{#if parts.length < run.part_count}, the first {parts.length}
      here; those that went wrong come first{/if}
  </h2>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="panel max-h-96 overflow-auto" tabindex="0" role="region" aria-label="Parts">
    <table class="grid-list">
      <thead
        ><tr
          ><th>Part</th><th>State</th><th>To</th><th class="!text-right">Sent</th><th class="!text-right"
            >Open</th
          ><th class="!text-right">Not sent</th><th>Why</th></tr
        ></thead
      >
      <tbody>
        {#each parts as part (part.part)}
          <tr
            ><td>{part.name || part.part}</td><td><StateMark state={part.state} /></td><td
              >{part.recipient}</td
            ><td class="!text-right">{part.sent}</td><td class="!text-right">{part.open}</td><td
              class="!text-right {part.not_sent ? 'text-error font-semibold' : ''}">{part.not_sent}</td
            ><td class="soft">{part.state === 'done' ? '' : part.reason}</td></tr
          >
        {/each}
      </tbody>
    </table>
  </div>
</section>
