<script lang="ts">
  // The sections of a report: one is open, the others stand beside it by their names.
  import type { PreviewSection, ReportCheck, ReportRequest, Values } from '../../lib/api';
  import { around, faultsAt } from '../../lib/editing/context';
  import { isEmpty, type Written } from '../../lib/editing/hint';
  import { ofKind } from '../../lib/editing/report';
  import Fields from './Fields.svelte';
  import Flags from './Flags.svelte';
  import SectionRows from './SectionRows.svelte';

  let {
    sections = $bindable(),
    name,
    definition,
    values,
    runs,
    check,
  }: {
    sections: Written[];
    name: string;
    definition: ReportRequest;
    values: Values;
    runs: number;
    check: ReportCheck | undefined;
  } = $props();

  const { faults } = around();
  let at = $state(0);
  const open = $derived(Math.min(at, sections.length - 1));
  const section = $derived(sections[open]);
  const kind = $derived(String(section?.kind ?? 'table'));
  const path = $derived(`sections[${open}]`);
  const kinds: PreviewSection['kind'][] = ['table', 'figures', 'chart', 'text'];
  const further = $derived(
    ['title', 'group', 'key', 'chart', 'text'].filter(
      (f) => ofKind[kind]?.includes(f) || !isEmpty(section?.[f]),
    ),
  );
  function add(kind: string) {
    let n = sections.length + 1;
    while (sections.some((s) => s.name === `Section ${n}`)) n++;
    const query = kind === 'text' ? { text: '' } : { sql: '' };
    sections.push({ name: `Section ${n}`, ...(kind !== 'table' && { kind }), ...query });
    at = sections.length - 1;
  }
  function move(to: number) {
    const [it] = sections.splice(open, 1);
    if (it) sections.splice(to, 0, it);
    at = to;
  }
</script>

<div class="flex flex-wrap items-center gap-1.5" role="group" aria-label="Sections of the report">
  {#each sections as s, i (s)}
    <button type="button" class="chip" aria-pressed={i === open} onclick={() => (at = i)}
      >{s.name || `section ${i + 1}`}
      <span class="soft text-[12px]">{s.kind ?? 'table'}</span>
      {#if faultsAt(faults(), `sections[${i}]`, true).length}<span class="flag"
          >{faultsAt(faults(), `sections[${i}]`, true)[0]?.n}</span
        >{/if}</button
    >
  {/each}
  <span class="soft pl-2 text-[13px]">Add</span>
  {#each kinds as kind (kind)}<button type="button" class="edit-link" onclick={() => add(kind)}
      >{kind === 'figures' ? 'figures' : `a ${kind}`}</button
    >{/each}
</div>
{#if section}
  {#key section}
    <div class="mt-2 grid gap-2" data-path={path}>
      <Fields of="Section" bind:record={sections[open] as Written} {path} only={['name', 'kind', 'sql']} />
      <SectionRows
        bind:section={sections[open] as Written}
        {path}
        {name}
        {definition}
        {values}
        {runs}
        {check}
      />
      <Fields of="Section" bind:record={sections[open] as Written} {path} only={further} />
      {#if kind !== 'text'}
        <details open={!isEmpty(section.detail)}>
          <summary class="soft min-h-7 cursor-pointer py-1 text-[13px]"
            >Underlying rows, for outputs that ask for them</summary
          >
          <Fields of="Section" bind:record={sections[open] as Written} {path} only={['detail']} />
        </details>
      {/if}
      <div class="flex gap-4">
        {#if open > 0}<button type="button" class="edit-link" onclick={() => move(open - 1)}
            >Move it up</button
          >{/if}
        {#if open < sections.length - 1}<button type="button" class="edit-link" onclick={() => move(open + 1)}
            >Move it down</button
          >{/if}
        {#if sections.length > 1}<button
            type="button"
            class="edit-link"
            onclick={() => sections.splice(open, 1)}>Remove this section</button
          >{/if}
      </div>
      <Flags faults={faultsAt(faults(), path, false)} />
    </div>
  {/key}
{/if}
