<script lang="ts">
  // The versions of a record: who saved each, what it says otherwise, and putting it back.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { without, type Written } from '../../lib/editing/hint';
  import { asSaved } from '../../lib/editing/job';
  import { differences } from '../../lib/editing/merge';
  import { myZone } from '../../lib/me.svelte';
  import { asks } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const {
    kind,
    name,
    now,
    put,
  }: { kind: 'job' | 'report'; name: string; now: unknown; put: (to: Written) => void } = $props();

  const list = createQuery(() => asks.versions(kind, name));
  let chosen = $state(0);
  let all = $state(false);
  let was = $state.raw<Written>();
  let trouble = $state.raw<unknown>(null);
  async function look(version: number) {
    chosen = chosen === version ? 0 : version;
    was = undefined;
    trouble = null;
    if (!chosen) return;
    try {
      const found =
        kind === 'job'
          ? await body(
              api.GET('/api/jobs/{job}/versions/{version}', { params: { path: { job: name, version } } }),
            )
          : await body(
              api.GET('/api/reports/{report}/versions/{version}', {
                params: { path: { report: name, version } },
              }),
            );
      if (chosen === version)
        was = asSaved(kind === 'job' ? 'JobRequest' : 'ReportRequest', found.definition);
    } catch (error) {
      trouble = error;
    }
  }
  const differ = $derived(
    was ? differences(without(was), without({ ...(now as Written), on: was.on, owner: was.owner })) : [],
  );
  const text = (v: unknown) =>
    v === undefined ? 'nothing' : typeof v === 'string' ? v : JSON.stringify(v, null, 1);
</script>

{#if list.isError}<Trouble error={list.error} />{/if}
<ul class="text-[13px]">
  {#each (list.data ?? []).slice(0, all ? 200 : 4) as v (v.version)}
    <li class="flex flex-wrap gap-x-3 py-0.5">
      <b class="w-8">{v.version}</b>
      <span>{v.author || 'unknown'}, <ZonedTime at={v.saved_at} zone={myZone()} /></span>
      <button
        type="button"
        class="edit-link"
        aria-expanded={chosen === v.version}
        onclick={() => void look(v.version)}>Compare</button
      >
    </li>
  {/each}
</ul>
{#if !all && (list.data?.length ?? 0) > 4}<button type="button" class="edit-link" onclick={() => (all = true)}
    >All {list.data?.length} versions</button
  >{/if}
{#if trouble}<Trouble error={trouble} />{/if}
{#if was}
  {#if differ.length}
    <table class="grid-list mt-2">
      <thead><tr><th>Field</th><th>In version {chosen}</th><th>As it is written here</th></tr></thead>
      <tbody>
        {#each differ as d (d.path)}
          <tr>
            <td class="mono">{d.path}</td>
            <td class="mono break-words whitespace-pre-wrap">{text(d.was)}</td>
            <td class="mono break-words whitespace-pre-wrap">{text(d.now)}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    <button
      type="button"
      class="btn mt-2"
      onclick={() => {
        if (was) put({ ...was, on: (now as Written).on, owner: (now as Written).owner });
        chosen = 0;
        was = undefined;
      }}>Put version {chosen} back into the draft</button
    >
  {:else}<p class="soft">Version {chosen} says the same.</p>{/if}
{/if}
