<script lang="ts">
  // A report as it will arrive, made by the service: the page, the mail, the web page, the text
  // file. What is shown is shut off in a frame of its own.
  import type { ReportRequest, Values } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';

  const {
    name,
    definition,
    values,
    wrong,
  }: { name: string; definition: ReportRequest; values: Values; wrong: boolean } = $props();

  const forms = [
    ['pdf', 'Page'],
    ['html-mail', 'Mail'],
    ['html', 'Web page'],
    ['csv', 'CSV'],
    ['json', 'JSON'],
  ] as const;
  let shown = $state<(typeof forms)[number][0]>('pdf');
  let form = $state<HTMLFormElement>();
  const ask = $derived.by(() => {
    const { anyway, owner, ...plain } = definition;
    void [anyway, owner];
    const one = plain.sections.length > 1 && (shown === 'csv' || shown === 'json');
    return JSON.stringify({
      report: name || 'new report',
      definition: plain,
      values,
      zone: myZone(),
      output: { format: shown, ...(one && { sections: [{ section: plain.sections[0]?.name }] }) },
    });
  });
  $effect(() => {
    void ask;
    if (wrong || !form) return;
    const sending = form;
    const timer = setTimeout(() => sending.submit(), 900);
    return () => clearTimeout(timer);
  });
</script>

<section class="bg-base-300/60 rounded p-3" aria-label="As it will arrive">
  <div class="flex flex-wrap items-center gap-1.5 pb-2">
    <h2 class="mb-0!">As it will arrive</h2>
    <span class="flex-1"></span>
    {#each forms as [form, word] (form)}
      <button type="button" class="chip" aria-pressed={shown === form} onclick={() => (shown = form)}
        >{word}</button
      >
    {/each}
  </div>
  <form method="post" action="/api/frame" target="arrives" bind:this={form} class="hidden">
    <input type="hidden" name="ask" value={ask} />
  </form>
  {#if wrong}<p class="soft">
      When nothing is wrong any more it is shown here; below is the last that was whole.
    </p>{/if}
  <iframe
    name="arrives"
    title="The report as it will arrive"
    class="border-base-300 h-[34rem] w-full border bg-white"
  ></iframe>
</section>
