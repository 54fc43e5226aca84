<script lang="ts">
  // A file of a report with the values that were chosen, made at once.
  import { Problem, type Values } from '../lib/api';
  import { size } from '../lib/size';
  import Trouble from './Trouble.svelte';

  const { name, values }: { name: string; values: Values } = $props();
  let trouble = $state<unknown>(null);
  let format = $state<'pdf' | 'xlsx' | 'json' | 'pptx' | 'html'>('pdf');
  let making = $state(false);
  let said = $state('');
  async function make() {
    making = true;
    said = '';
    trouble = null;
    try {
      const began = performance.now();
      const answer = await fetch(`/api/reports/${encodeURIComponent(name)}/render`, {
        method: 'POST',
        headers: { 'Content-Type': 'application/json' },
        body: JSON.stringify({ values, output: { format } }),
      });
      if (!answer.ok) {
        const p = (await answer.json()) as {
          detail?: string;
          errors?: { location?: string; message?: string }[];
        };
        throw new Problem(answer.status, p.detail ?? answer.statusText, p.errors ?? []);
      }
      const file = await answer.blob();
      const link = document.createElement('a');
      link.href = URL.createObjectURL(file);
      link.download = `${name}.${format}`;
      link.click();
      URL.revokeObjectURL(link.href);
      said = `${Number(answer.headers.get('Ironbell-Rows')).toLocaleString('en-GB')} rows, ${size(file.size)}, in ${((performance.now() - began) / 1000).toFixed(1)} s`;
    } catch (error) {
      trouble = error;
    } finally {
      making = false;
    }
  }
</script>

<section class="panel px-3.5 py-3">
  <h2>A file of it, now</h2>
  <div class="flex items-center gap-2">
    <label class="contents"
      ><span class="sr-only">Format</span><select
        class="select select-sm bg-base-100 w-36"
        bind:value={format}
        ><option value="pdf">PDF</option><option value="xlsx">Spreadsheet</option><option value="pptx"
          >Slides</option
        ><option value="html">HTML page</option><option value="json">JSON</option></select
      ></label
    >
    <button class="btn" disabled={making} onclick={() => void make()}
      >{making ? 'Making it' : 'Make it'}</button
    >
  </div>
  {#if trouble}<Trouble error={trouble} />{/if}
  {#if said}<p class="soft mt-1" role="status">{said}</p>{/if}
</section>
