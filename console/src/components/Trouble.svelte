<script lang="ts">
  // What went wrong, what it means, what to do.
  import { Problem } from '../lib/api';

  const { error }: { error: unknown } = $props();
  const details = $derived(error instanceof Problem ? error.details : []);
  const text = $derived(error instanceof Error ? error.message : String(error));
</script>

<div role="alert" class="panel border-error/50 p-3">
  <p class="text-error font-semibold first-letter:uppercase">{text}</p>
  {#if details.length > 0}
    <ul class="mt-1 list-disc pl-5">
      {#each details as d (d.location + (d.message ?? ''))}
        {#if d.message && !text.includes(d.message)}
          <li>
            {#if d.location}<span class="mono">{d.location}</span>:{/if}
            {d.message}
          </li>
        {/if}
      {/each}
    </ul>
  {/if}
</div>
