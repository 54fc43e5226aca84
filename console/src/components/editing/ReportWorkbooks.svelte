<script lang="ts">
  // The owner's own workbooks that a report fills: sent here, with what each of their named tables
  // and cells takes as it stands.
  import type { ReportCheck } from '../../lib/api';
  import type { Written } from '../../lib/editing/hint';
  import Fields from './Fields.svelte';
  import Flags from './Flags.svelte';
  import { around, faultsAt } from '../../lib/editing/context';
  import WorkbookSend from './WorkbookSend.svelte';
  import WorkbookTakes from './WorkbookTakes.svelte';

  let {
    record = $bindable(),
    check,
    report,
  }: { record: Written; check: ReportCheck | undefined; report: string } = $props();

  const { faults } = around();
  const list = $derived((record.workbooks ?? []) as Written[]);
  const planOf = (w: Written) => check?.workbooks.find((p) => p.workbook === w.name && p.file.id === w.file);

  function put(file: { id: string; name: string }, at?: number) {
    if (at !== undefined) {
      record.workbooks = list.map((w, i) => (i === at ? { ...w, file: file.id } : w));
      return;
    }
    const base = file.name.replace(/\.xlsx$/i, '').slice(0, 90) || 'Workbook';
    let name = base;
    for (let n = 2; list.some((w) => w.name === name); n++) name = `${base} ${String(n)}`;
    record.workbooks = [...list, { name, file: file.id }];
  }
</script>

{#each list as w, i (i)}
  {@const plan = planOf(w)}
  <section
    class="border-base-300 mt-1 mb-4 border-l-2 pl-3"
    data-path="workbooks[{i}]"
    aria-label="Workbook {String(w.name ?? '')}"
  >
    <div class="flex flex-wrap items-end gap-x-4 gap-y-1">
      <div class="w-64">
        {#if list[i]}<Fields of="Workbook" bind:record={list[i]} path="workbooks[{i}]" only={['name']} />{/if}
      </div>
      {#if report && plan}
        <a
          class="edit-link pb-2"
          href="/api/reports/{encodeURIComponent(report)}/workbooks/{encodeURIComponent(String(w.name))}"
          download>Download</a
        >
      {/if}
      <button
        type="button"
        class="edit-link pb-2"
        aria-label="Remove the workbook {String(w.name ?? '')}"
        onclick={() => (record.workbooks = list.filter((o) => o !== w))}>Remove</button
      >
    </div>
    {#if plan}<WorkbookTakes {plan} />
    {:else if check}<p class="soft text-[13px]">
        What it takes is shown when the report can be looked at.
      </p>{/if}
    <details class="mt-1">
      <summary class="soft min-h-7 cursor-pointer py-1 text-[13px]">Let it take something else</summary>
      {#if list[i]}<Fields
          of="Workbook"
          bind:record={list[i]}
          path="workbooks[{i}]"
          only={['tables', 'cells']}
        />{/if}
    </details>
    <WorkbookSend label="Send another file in its place" done={(file) => put(file, i)} />
    <Flags faults={faultsAt(faults(), `workbooks[${String(i)}].file`, true)} />
  </section>
{/each}
<WorkbookSend
  label={list.length ? 'Send a further workbook' : 'Send a workbook'}
  done={(file) => put(file)}
/>
