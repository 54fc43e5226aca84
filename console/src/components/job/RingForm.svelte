<script lang="ts">
  // Rings a job by hand: with what its values would be by themselves, or with others; now, or for
  // dates that have passed.
  import { createMutation, createQuery } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, body, type JobPage, type Values } from '../../lib/api';
  import { opened } from '../../lib/opened';
  import { asks } from '../../lib/queries';
  import { zoneWord } from '../../lib/time';
  import { navigate } from '../../router';
  import Trouble from '../Trouble.svelte';
  import ValueForm from '../ValueForm.svelte';

  const { job, given, done }: { job: JobPage; given: Values; done: () => void } = $props();

  let values = $state<Values>(untrack(() => ({ ...given })));
  let past = $state(false);
  let from = $state('');
  let to = $state('');
  // A date is reckoned at noon of its day; the ring itself takes the time of the rule.
  const at = $derived(past && /^\d{4}-\d\d-\d\d$/.test(from) ? `${from}T12:00:00Z` : '');
  const asked = createQuery(() => asks.values(job.name, undefined, undefined, values, at));
  const trouble = $derived(asked.data?.values.some((v) => v.trouble) ?? false);
  const ring = createMutation(() => ({
    meta: {
      says: (runs: unknown) =>
        (runs as unknown[]).length === 1
          ? 'The run has begun.'
          : `${(runs as unknown[]).length} runs have begun.`,
    },
    mutationFn: async (rehearse: boolean) => {
      const params = { path: { job: job.name } };
      if (!past)
        return [await body(api.POST('/api/jobs/{job}/ring', { params, body: { rehearse, values } }))];
      return body(
        api.POST('/api/jobs/{job}/past', { params, body: { rehearse, values, from, ...(to && { to }) } }),
      );
    },
    onSuccess: (runs) => {
      const [first] = runs;
      if (runs.length === 1 && first) void navigate('/runs/:run', { params: { run: first.id } });
      else void navigate('/runs', { search: { job: job.name } });
    },
  }));
</script>

<section class="panel border-primary/60 px-3.5 py-2.5" aria-label="Ring by hand" {@attach opened(done)}>
  <h2>Ring it by hand</h2>
  {#if asked.isError}<Trouble error={asked.error} />{/if}
  {#if asked.data}
    <div class="grid max-w-3xl gap-3">
      <ValueForm offers={asked.data.values} bind:values nothing="It asks for no values." />
    </div>
  {:else if !asked.isError}<p class="soft" role="status">Asking what its values come to …</p>{/if}
  <div class="flex flex-wrap items-center gap-3 pt-2">
    <label class="flex min-h-7 items-center gap-1.5 text-[13px]"
      ><input type="checkbox" class="checkbox checkbox-xs" bind:checked={past} />For dates that have passed</label
    >
    {#if past}
      <label class="flex items-center gap-1.5 text-[13px]"
        >from<input type="date" class="input input-sm bg-base-100" bind:value={from} /></label
      >
      <label class="flex items-center gap-1.5 text-[13px]"
        >to<input type="date" class="input input-sm bg-base-100" min={from} bind:value={to} /></label
      >
      <span class="soft text-[13px]"
        >in {zoneWord(job.zone)}; a run for each time at which it rings on them</span
      >
    {/if}
  </div>
  <div class="flex flex-wrap gap-2 pt-2">
    <button
      class="btn btn-primary"
      disabled={ring.isPending || trouble || (past && !from)}
      onclick={() => ring.mutate(false)}>{past ? 'Run for these dates' : 'Ring now'}</button
    >
    <button
      class="btn"
      disabled={ring.isPending || trouble || (past && !from)}
      onclick={() => ring.mutate(true)}>Rehearse to me</button
    >
    <button class="btn" onclick={done}>Leave it</button>
  </div>
  <p class="soft pt-1 text-[12.5px]">
    In a rehearsal everything runs for real, and the results go only to you.
  </p>
  {#if ring.isError}<Trouble error={ring.error} />{/if}
</section>
