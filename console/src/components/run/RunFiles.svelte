<script lang="ts">
  // The files that a run made.
  import type { RunPage } from '../../lib/api';
  import { size } from '../../lib/size';
  import ZonedTime from '../ZonedTime.svelte';

  const { run }: { run: RunPage } = $props();
</script>

<section>
  <h2>Files</h2>
  <div class="panel flex flex-wrap gap-x-6 gap-y-1 px-3.5 py-2">
    {#each run.artifacts as f (f.id)}
      <span
        >{#if f.removed_at}<span class="line-through">{f.name}</span> (removed
          <ZonedTime at={f.removed_at} zone={run.zone} />)
        {:else}<a class="link-plain underline" href="/api/files/{f.id}" download>{f.name}</a>{/if}
        <span class="soft">{size(f.size)}, {f.rows.toLocaleString('en-GB')} rows</span></span
      >
    {/each}
  </div>
</section>
