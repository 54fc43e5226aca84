<script lang="ts">
  // The first rows of a section as it is being written. A column is told how it looks by pressing
  // its head.
  import {
    api,
    body,
    type PreviewSection,
    type ReportCheck,
    type ReportRequest,
    type Values,
  } from '../../lib/api';
  import { without, type Written } from '../../lib/editing/hint';
  import SectionView from '../SectionView.svelte';
  import Trouble from '../Trouble.svelte';
  import Fields from './Fields.svelte';

  let {
    section = $bindable(),
    path,
    name,
    definition,
    values,
    runs,
    check,
  }: {
    section: Written;
    path: string;
    name: string;
    definition: ReportRequest;
    values: Values;
    runs: number;
    check: ReportCheck | undefined;
  } = $props();

  let found = $state.raw<PreviewSection>();
  let trouble = $state.raw<unknown>(null);
  let waits = $state(false);
  const asked = $derived(
    JSON.stringify({
      // Only this section is asked of the source.
      definition: {
        source: definition.source,
        identity: definition.identity,
        parameters: definition.parameters,
        sections: [without(section)],
      },
      values,
      sections: [section.name],
      rows: 12,
    }),
  );
  $effect(() => {
    void runs;
    const question = asked;
    if (!section.sql && !section.text) return;
    const ending = new AbortController();
    const timer = setTimeout(() => void run(question, ending.signal), 700);
    return () => {
      clearTimeout(timer);
      ending.abort();
    };
  });
  type Question = { definition: ReportRequest; values: Values; sections: string[]; rows: number };
  async function run(question: string, signal: AbortSignal) {
    waits = true;
    try {
      const told = await body(
        api.POST('/api/reports/{report}/preview', {
          params: { path: { report: name || 'new report' } },
          body: JSON.parse(question) as Question,
          signal,
        }),
      );
      found = told.sections[0];
      trouble = null;
    } catch (error) {
      if (!signal.aborted) trouble = error;
    } finally {
      if (!signal.aborted) waits = false;
    }
  }

  const heads = $derived(
    found?.columns ?? check?.sections.find((s) => s.section === section.name)?.columns ?? [],
  );
  let column = $state('');
  const columns = $derived((section.columns ?? []) as Written[]);
  const at = $derived(columns.findIndex((c) => c.name === column));
  function choose(head: string) {
    column = column === head ? '' : head;
    if (column && !columns.some((c) => c.name === head)) section.columns = [...columns, { name: head }];
  }
</script>

<div class="grid gap-2" aria-live="polite">
  {#if waits}<p class="soft text-[13px]" role="status">Asking the source …</p>{/if}
  {#if trouble}<Trouble error={trouble} />{/if}
  {#if heads.length}
    <div class="flex flex-wrap items-center gap-1.5" role="group" aria-label="Columns">
      <span class="soft text-[13px]">Press a column to say how it looks:</span>
      {#each heads as head (head.name)}
        {@const told = columns.find((c) => c.name === head.name)}
        <button
          type="button"
          class="chip {told?.hidden ? 'line-through' : ''}"
          aria-pressed={column === head.name}
          onclick={() => choose(head.name)}
          >{head.name}{#if told && Object.keys(without(told) as Written).length > 1}<span class="soft"
              >, told</span
            >{/if}</button
        >
      {/each}
    </div>
  {/if}
  {#if at >= 0 && columns[at]}
    <div class="border-primary/50 border-l-2 pl-3" data-path="{path}.columns[{at}]">
      <Fields of="Column" bind:record={columns[at]} path="{path}.columns[{at}]" leave={['name']} />
    </div>
  {/if}
  {#if found && !trouble}<SectionView section={found} />{/if}
</div>
