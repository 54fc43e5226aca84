<script lang="ts">
  // How the rows of a run differ from those of an earlier one.
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { asks } from '../lib/queries';
  import { param } from '../lib/param';
  import { p, route } from '../router';

  const run = $derived(param(route.params.run));
  const earlier = $derived(String(searchParams.get('with') ?? ''));
  const found = createQuery(() => asks.compare(run, earlier));
</script>

<svelte:head><title>Compare {run} · Iron Bell</title></svelte:head>

{#if found.isError}<h1>Compare run {run}</h1>
  <Trouble error={found.error} />{/if}
{#if found.data}
  {@const c = found.data}
  <div class="flex flex-wrap items-baseline gap-x-3.5">
    <h1>{c.after.job}</h1>
    <span class="soft"
      >run <a class="mono" href={p('/runs/:run', { params: { run: c.after.id } })}>{c.after.id}</a> of <ZonedTime
        at={c.after.due}
        zone={c.after.zone}
      />, compared with
      <a class="mono" href={p('/runs/:run', { params: { run: c.before.id } })}>{c.before.id}</a>
      of <ZonedTime at={c.before.due} zone={c.before.zone} /></span
    >
  </div>
  {#each c.sections as d (d.section)}
    <section class="panel px-3.5 py-3">
      <h2>{d.section}</h2>
      <p>
        {d.after.toLocaleString('en-GB')} rows, before {d.before.toLocaleString('en-GB')}:
        <b>{d.came}</b> came, <b>{d.went}</b> went, <b>{d.changed}</b> changed, {d.same} are the same.
        {#if d.note}<span class="soft">{d.note}.</span>{/if}
      </p>
      {#if d.totals.length}
        <table class="grid-list mt-2 max-w-xl">
          <thead
            ><tr
              ><th>Total of</th><th class="text-right">Before</th><th class="text-right">Now</th><th
                class="text-right">Change</th
              ></tr
            ></thead
          >
          <tbody>
            {#each d.totals as t (t.column)}<tr
                ><td>{t.column}</td><td class="text-right">{t.before}</td><td class="text-right">{t.after}</td
                ><td class="text-right">{t.change}</td></tr
              >{/each}
          </tbody>
        </table>
      {/if}
      {#if d.cells.length}
        <h3 class="mt-3 font-semibold">Changed cells</h3>
        <table class="grid-list">
          <thead><tr><th>{(d.key ?? []).join(', ')}</th><th>Column</th><th>Before</th><th>Now</th></tr></thead
          >
          <tbody>
            {#each d.cells as cell, n (n)}<tr
                ><td>{cell.key.join(', ')}</td><td>{cell.column}</td><td>{cell.before}</td><td
                  >{cell.after}</td
                ></tr
              >{/each}
          </tbody>
        </table>
      {/if}
      {#each [['Rows that came', d.came_rows], ['Rows that went', d.went_rows]] as const as [title, rows] (title)}
        {#if rows.length}
          <h3 class="mt-3 font-semibold">{title}</h3>
          <!-- What scrolls must be reached by keyboard. -->
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <div class="max-h-80 overflow-auto" role="region" aria-label={title} tabindex="0">
            <table class="grid-list">
              <thead
                ><tr
                  >{#each d.heads as head, n (n)}<th>{head}</th>{/each}</tr
                ></thead
              >
              <tbody
                >{#each rows as row, n (n)}<tr
                    >{#each row as cell, i (i)}<td>{cell}</td>{/each}</tr
                  >{/each}</tbody
              >
            </table>
          </div>
        {/if}
      {/each}
    </section>
  {/each}
{/if}
