<script lang="ts">
  // What can be done with a job that is being written.
  import { createMutation } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { navigate } from '../../router';
  import Trouble from '../Trouble.svelte';

  const {
    on,
    isNew,
    faults,
    save,
  }: {
    on: boolean;
    isNew: boolean;
    faults: number;
    save: (on: boolean) => Promise<string | undefined>;
  } = $props();

  const keep = createMutation(() => ({
    meta: { says: (name: unknown) => (typeof name === 'string' ? `The job “${name}” is saved.` : '') },
    mutationFn: save,
    onSuccess: (name) => {
      if (name) void navigate('/jobs/:job', { params: { job: name } });
    },
  }));
  const ring = createMutation(() => ({
    mutationFn: async (rehearse: boolean) => {
      const name = await save(on);
      if (!name) return null;
      return body(api.POST('/api/jobs/{job}/ring', { params: { path: { job: name } }, body: { rehearse } }));
    },
    onSuccess: (run) => {
      if (run) void navigate('/runs/:run', { params: { run: run.id } });
    },
  }));
  const busy = $derived(keep.isPending || ring.isPending);
</script>

<div class="rule-above grid gap-2">
  <div class="flex flex-wrap gap-2">
    {#if on}
      <button
        type="button"
        class="btn btn-primary"
        disabled={busy || faults > 0}
        onclick={() => keep.mutate(true)}>Save, rings on</button
      >
    {:else}
      <button
        type="button"
        class="btn btn-primary"
        disabled={busy || faults > 0}
        onclick={() => keep.mutate(true)}>Save and switch on</button
      >
      <button type="button" class="btn" disabled={busy} onclick={() => keep.mutate(false)}
        >Save, stays off</button
      >
    {/if}
    <button type="button" class="btn" disabled={busy || faults > 0} onclick={() => ring.mutate(true)}
      >Rehearse to me</button
    >
    <button type="button" class="btn" disabled={busy || faults > 0} onclick={() => ring.mutate(false)}
      >Ring once</button
    >
  </div>
  <p class="soft text-[12.5px]">
    Saving takes effect at once. A rehearsal and a ring save first{isNew ? ', and leave it off' : ''}: in a
    rehearsal everything runs for real, and the results go only to you; a ring goes to all that is named.
  </p>
  {#if keep.isError}<Trouble error={keep.error} />{/if}
  {#if ring.isError}<Trouble error={ring.error} />{/if}
</div>
