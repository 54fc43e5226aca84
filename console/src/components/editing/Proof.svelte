<script lang="ts">
  // One form of a report as it will arrive, made by the service anew when the report changes. What
  // is shown is shut off in a frame of its own, in which no script runs and nothing is fetched.
  import type { Output, ReportRequest, Values } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';

  const {
    name,
    definition,
    values,
    wrong,
    format,
    workbook,
    title,
    high = 'h-[34rem]',
  }: {
    name: string;
    definition: ReportRequest;
    values: Values;
    wrong: boolean;
    format: Output['format'];
    workbook?: string;
    title: string;
    high?: string;
  } = $props();

  const id = $props.id();
  let form = $state<HTMLFormElement>();
  let making = $state(false);
  let made = $state(0); // how often it was
  const ask = $derived.by(() => {
    const { anyway, owner, ...plain } = definition;
    void [anyway, owner];
    const one = plain.sections.length > 1 && (format === 'csv' || format === 'json');
    return JSON.stringify({
      report: name || 'new report',
      definition: plain,
      values,
      zone: myZone(),
      output: { format, workbook, ...(one && { sections: [{ section: plain.sections[0]?.name }] }) },
    });
  });
  $effect(() => {
    void ask;
    if (wrong || !form) return;
    const sending = form;
    const timer = setTimeout(() => {
      making = true;
      sending.submit();
    }, 900);
    return () => clearTimeout(timer);
  });
</script>

<form method="post" action="/api/frame" target="arrives-{id}" bind:this={form} class="hidden">
  <input type="hidden" name="ask" value={ask} />
</form>
<p class="soft min-h-5 text-[12px]" role="status">
  {#if wrong}When nothing is wrong any more it is shown; below is the last that was whole.
  {:else if making}Making it …{/if}
</p>
<iframe
  name="arrives-{id}"
  {title}
  onload={() => {
    if (making) made += 1;
    making = false;
  }}
  data-made={made}
  class="border-base-300 w-full border bg-white {high}"
></iframe>
