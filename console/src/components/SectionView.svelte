<script lang="ts">
  // A section of a preview, as its files will show it.
  import type { PreviewSection } from '../lib/api';

  const { section }: { section: PreviewSection } = $props();
  const numeric = $derived(section.columns.map((c) => c.kind === 'whole' || c.kind === 'number'));
  const marks: Record<string, string> = {
    good: 'text-success font-semibold',
    warning: 'text-warning font-semibold',
    bad: 'text-error font-semibold',
    strong: 'font-semibold',
    faint: 'soft',
  };
  // A drawing is a picture: nothing in it can run.
  const drawing = $derived(
    section.drawing ? `data:image/svg+xml;charset=utf-8,${encodeURIComponent(section.drawing)}` : '',
  );
</script>

<section class="panel px-3.5 py-3">
  <h2 class="flex items-baseline gap-2">
    {section.title}<span class="soft text-[12.5px] font-normal">{section.took_ms} ms</span>
  </h2>
  {#if section.kind === 'text'}
    <p class="whitespace-pre-line">{section.text}</p>
  {:else if section.figures?.length}
    <dl class="flex flex-wrap gap-x-12 gap-y-3">
      {#each section.figures as f (f.label)}
        <div>
          <dt class="soft text-[13px]">{f.label}</dt>
          <dd class="text-[26px] leading-tight font-semibold tabular-nums">{f.text}</dd>
          {#if f.change}<dd class={`text-[13px] ${marks[f.mark ?? ''] ?? ''}`}>{f.change}</dd>{/if}
        </div>
      {/each}
    </dl>
  {:else}
    {#if drawing}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="overflow-x-auto" role="region" aria-label={`Chart of ${section.title}`} tabindex="0">
        <img
          class="my-2 w-full max-w-[56rem] min-w-[36rem] rounded bg-white p-2"
          src={drawing}
          alt={`Chart of ${section.title}; its rows stand below`}
        />
      </div>
    {/if}
    <!-- What scrolls must be reached by keyboard. -->
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="max-h-[28rem] overflow-auto" role="region" aria-label={section.title} tabindex="0">
      <table class="grid-list">
        <thead
          ><tr
            >{#each section.columns as c, i (i)}<th class:text-right={numeric[i]}>{c.head || c.name}</th
              >{/each}</tr
          ></thead
        >
        <tbody>
          {#each section.lines as line, n (n)}
            <tr class={line.total ? 'font-semibold' : ''}>
              {#each line.cells as cell, i (i)}
                <td
                  class={`${numeric[i] ? 'text-right tabular-nums' : ''} ${marks[line.marks?.[i] ?? ''] ?? ''}`}
                  >{cell}</td
                >
              {/each}
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if section.lines.length === 0}<p class="soft mt-2">No rows.</p>
    {:else if section.more}<p class="soft mt-2">
        The first {section.lines.length} rows. There are more, so no totals are shown.
      </p>{/if}
  {/if}
</section>
