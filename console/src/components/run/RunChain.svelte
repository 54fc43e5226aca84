<script lang="ts">
  // The chain of a run with what came of each task. It is loaded when there is one to be drawn; not
  // by the page itself, which the router would then take for one that is to be loaded.
  import type { RunPage } from '../../lib/api';

  const { tasks, attempts }: { tasks: RunPage['tasks']; attempts: RunPage['attempts'] } = $props();
  /** What came of each task: its last try. */
  const outcomes = $derived(Object.fromEntries(attempts.map((a) => [a.task, a.state])));
</script>

{#if tasks.length > 2}
  {#await import('../ChainView.svelte') then chain}
    <div class="pb-2"><chain.default {tasks} {outcomes} /></div>
  {/await}
{/if}
