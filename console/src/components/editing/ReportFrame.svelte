<script lang="ts">
  // A report as it will arrive: the pages, the mail, the sheets, the slides, the text files; one of
  // them beside the report, or four side by side.
  import type { Output, ReportRequest, Values } from '../../lib/api';
  import Proof from './Proof.svelte';

  const report: { name: string; definition: ReportRequest; values: Values; wrong: boolean } = $props();

  type Form = [Output['format'], string, string?]; // the last is a workbook
  const usual: Form[] = [
    ['pdf', 'Page'],
    ['html-mail', 'Mail'],
    ['xlsx', 'Sheet'],
    ['pptx', 'Slide'],
    ['html', 'Web page'],
    ['csv', 'CSV'],
    ['json', 'JSON'],
  ];
  const four = usual.slice(0, 4);
  const forms = $derived([
    ...usual,
    ...(report.definition.workbooks ?? []).map((w): Form => ['xlsx', w.name, w.name]),
  ]);
  let word = $state('Page');
  const shown = $derived(forms.find((f) => f[1] === word) ?? four[0]);
  let wide = $state(false);
  let dialog = $state<HTMLDialogElement>();
  $effect(() => {
    if (wide) dialog?.showModal();
  });

  /** The key w opens and closes the four, where it is no letter of a text. */
  function key(e: KeyboardEvent) {
    const at = e.target as HTMLElement;
    if (e.key !== 'w' || e.ctrlKey || e.metaKey || e.altKey || e.repeat) return;
    if (at.closest('input, textarea, select, [contenteditable], .sql-editor') || at.shadowRoot) return;
    if (wide) dialog?.close();
    else if (!document.querySelector('dialog[open]')) wide = true;
  }
</script>

<svelte:window onkeydown={key} />
{#snippet one([format, word]: Form, high: string)}
  <section aria-label={word}>
    <h3 class="font-semibold">{word}</h3>
    <Proof {...report} {format} title="The report as it will arrive: {word}" {high} />
  </section>
{/snippet}
<section class="bg-base-300/60 rounded p-3" aria-label="As it will arrive">
  <div class="flex flex-wrap items-center gap-1.5 pb-1">
    <h2 class="mb-0!">As it will arrive</h2>
    <span class="flex-1"></span>
    <button type="button" class="edit-link" onclick={() => (wide = true)}>Four side by side (w)</button>
  </div>
  <div class="flex flex-wrap gap-1.5" role="group" aria-label="Form">
    {#each forms as form, i (i)}
      <button
        type="button"
        class="chip"
        aria-pressed={form[1] === shown?.[1]}
        onclick={() => (word = form[1])}>{form[1]}</button
      >
    {/each}
  </div>
  {#if !wide && shown}
    <Proof
      {...report}
      format={shown[0]}
      workbook={shown[2]}
      title="The report as it will arrive: {shown[1]}"
    />
  {/if}
</section>
{#if wide}
  <dialog
    bind:this={dialog}
    onclose={() => (wide = false)}
    aria-label="As it will arrive, four forms side by side"
    class="bg-base-200 text-base-content m-0 h-dvh max-h-none w-dvw max-w-none p-4"
  >
    <div class="flex flex-wrap items-baseline gap-3 pb-2">
      <h2 class="mb-0!">{report.name || 'New report'}, as it will arrive</h2>
      <span class="flex-1"></span>
      <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}
        >Back to the report (w or Escape)</button
      >
    </div>
    <div class="grid gap-4 xl:grid-cols-3">
      {#each four.slice(0, 2) as form (form)}{@render one(form, 'h-[calc(100dvh-8rem)]')}{/each}
      <div>
        {#each four.slice(2) as form (form)}{@render one(form, 'h-[calc(50dvh-6rem)]')}{/each}
      </div>
    </div>
  </dialog>
{/if}
