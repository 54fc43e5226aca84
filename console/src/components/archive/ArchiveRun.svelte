<script lang="ts">
  // One run of the archive: its date, the versions that it took, its files, and who may follow links.
  import type { Archived } from '../../lib/api';
  import { size } from '../../lib/size';
  import { clock, fullDay } from '../../lib/time';
  import { p } from '../../router';
  import StateMark from '../StateMark.svelte';
  import ZonedTime from '../ZonedTime.svelte';
  import LinkForm from './LinkForm.svelte';

  const {
    run,
    may,
    chosen,
    full,
    looking,
    onpick,
    onlook,
  }: {
    run: Archived;
    may: boolean;
    chosen: boolean;
    full: boolean; // two are chosen already
    looking?: number;
    onpick: () => void;
    onlook: (file: { id: number; name: string }) => void;
  } = $props();
  let linking = $state(false);
  const parts = $derived([...new Set(run.files.map((f) => f.part))]);
  const versions = $derived(
    [`job version ${run.version}`, ...run.reports.map((r) => `${r.name} version ${r.version}`)].join(', '),
  );
</script>

<section class="panel px-3.5 py-2.5" aria-label="Run {run.run}">
  <div class="flex flex-wrap items-baseline gap-x-3 gap-y-1">
    <input
      type="checkbox"
      class="checkbox checkbox-xs self-center"
      aria-label="Compare run {run.run}"
      checked={chosen}
      disabled={full && !chosen}
      onchange={onpick}
    />
    <b>{fullDay(run.nominal, run.zone)}, {clock(run.nominal, run.zone)}</b>
    <a class="underline" href={p('/runs/:run', { params: { run: run.run } })}>{run.run}</a>
    <StateMark state={run.state} />
    <span class="soft min-w-0 break-words">{versions}</span>
    <span class="flex-1"></span>
    {#if run.withdrawn}<span class="text-warning font-semibold">links were withdrawn</span>{/if}
    {#if run.open_links}<a class="soft underline" href={p('/runs/:run', { params: { run: run.run } })}
        >{run.open_links === 1 ? '1 link leads here' : `${run.open_links} links lead here`}</a
      >{/if}
    {#if may && run.files.length && !linking}<button
        class="edit-link"
        aria-label="Make a link … to files of run {run.run}"
        onclick={() => (linking = true)}>Make a link …</button
      >{/if}
  </div>
  <ul class="mt-1">
    {#each run.files as f (f.id)}
      <li class="flex flex-wrap items-baseline gap-x-3">
        <button
          class="min-w-0 cursor-pointer text-left break-words underline"
          aria-pressed={looking === f.id}
          onclick={() => onlook({ id: f.id, name: f.name })}>{f.name}</button
        >
        {#if parts.length > 1}<span>{f.part_name || `part ${f.part}`}</span>{/if}
        <span class="soft"
          >{size(f.size)}, {f.rows.toLocaleString('en-GB')} {f.rows === 1 ? 'row' : 'rows'}</span
        >
        <span class="soft">until <ZonedTime at={f.until} zone={run.zone} /></span>
        <a class="edit-link" href="/api/files/{f.id}" aria-label="Fetch it: {f.name}" download>Fetch it</a>
      </li>
    {/each}
  </ul>
  {#if linking}<LinkForm {run} onclose={() => (linking = false)} />{/if}
</section>
