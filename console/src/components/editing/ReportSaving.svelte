<script lang="ts">
  // What is missing in a report, which jobs a change would break, and saving it.
  import type { ReportCheck } from '../../lib/api';
  import { goTo, type Fault } from '../../lib/editing/context';
  import { p } from '../../router';

  const {
    check,
    faults,
    isNew,
    save,
  }: {
    check: ReportCheck | undefined;
    faults: Fault[];
    isNew: boolean;
    save: (anyway: boolean) => Promise<void>;
  } = $props();
  let anyway = $state(false);
  let busy = $state(false);
  const broken = $derived(check?.jobs ?? []);
</script>

<section>
  <h2>Missing or wrong</h2>
  {#each faults as f (f.n)}
    <p class="py-0.5">
      <span class="flag">{f.n}</span>
      <button type="button" class="cursor-pointer text-left underline" onclick={() => goTo(f.where)}
        >{f.sentence}</button
      >
    </p>
  {:else}{#if check}<p class="text-success">Nothing. It can be saved.</p>{/if}{/each}
  {#each broken as j (j.job)}
    <p class="text-warning py-0.5">
      <a href={p('/jobs/:job', { params: { job: j.job } })}>{j.job}</a> would no longer fit: {j.wrong
        .map((w) => w.sentence)
        .join('; ')}
    </p>
  {/each}
  {#if broken.length}
    <label class="flex min-h-7 items-center gap-2 text-[13px]"
      ><input type="checkbox" class="checkbox checkbox-xs" bind:checked={anyway} />Save it although {broken.length ===
      1
        ? 'this job'
        : `these ${broken.length} jobs`} would fail at the next run</label
    >
  {/if}
  <button
    type="button"
    class="btn btn-primary mt-2"
    disabled={busy || faults.length > 0 || (broken.length > 0 && !anyway)}
    onclick={async () => {
      busy = true;
      await save(anyway);
      busy = false;
    }}>{isNew ? 'Save the report' : 'Save as a new version'}</button
  >
</section>
