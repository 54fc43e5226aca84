<script lang="ts">
  // What is wrong with a field, each with the number of its flag.
  import type { Fault } from '../../lib/editing/context';

  const { faults }: { faults: Fault[] } = $props();
</script>

{#each faults as f (f.n)}
  <p class="text-error text-[13px]">
    <span class="flag">{f.n}</span>
    {f.sentence}
  </p>
{/each}
