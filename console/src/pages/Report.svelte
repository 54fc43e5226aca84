<script lang="ts">
  // One report: what it asks for, how it looks with values, who uses it. The
  // address holds the values, so that a view can be sent.
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import { untrack } from 'svelte';
  import RecordActions from '../components/records/RecordActions.svelte';
  import ReportFile from '../components/ReportFile.svelte';
  import SectionView from '../components/SectionView.svelte';
  import SourceNote from '../components/SourceNote.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ValueForm from '../components/ValueForm.svelte';
  import { api, body, type PreviewSection, type Values } from '../lib/api';
  import { asks } from '../lib/queries';
  import { mayChange } from '../lib/me.svelte';
  import { param, searched, valuesIn } from '../lib/param';
  import { navigate, p, route } from '../router';

  const name = $derived(param(route.params.report));
  const page = createQuery(() => asks.report(name));

  let values = $state<Values>(untrack(() => valuesIn(searched('values'))));
  $effect(() => {
    const text = JSON.stringify(values);
    untrack(() => {
      if (text === '{}') searchParams.delete('values', undefined, { replace: true });
      else searchParams.set('values', text, { replace: true });
    });
  });
  const offers = createQuery(() => asks.choices(name, values));

  // Each section is asked for by itself, so that the first is there at once.
  let shown = $state<PreviewSection[]>([]);
  let readAs = $state('');
  let waits = $state('');
  let trouble = $state<unknown>(null);
  let ending: AbortController | null = null;
  async function preview() {
    ending?.abort();
    const mine = new AbortController();
    ending = mine;
    shown = [];
    trouble = null;
    try {
      for (const s of page.data?.sections ?? []) {
        waits = s.title || s.name;
        const found = await body(
          api.POST('/api/reports/{report}/preview', {
            params: { path: { report: name } },
            body: { values, sections: [s.name], rows: 50 },
            signal: mine.signal,
          }),
        );
        if (mine.signal.aborted) return;
        readAs = found.read_as;
        shown = [...shown, ...found.sections];
      }
    } catch (error) {
      if (!mine.signal.aborted) trouble = error;
    } finally {
      if (ending === mine) {
        ending = null;
        waits = '';
      }
    }
  }
  $effect(() => {
    if (page.data) untrack(() => void preview());
    return () => ending?.abort();
  });
</script>

<svelte:head><title>{name} · Iron Bell</title></svelte:head>

{#if page.isError}<Trouble error={page.error} />{/if}
{#if page.data}
  {@const r = page.data}
  <div class="flex flex-wrap items-baseline gap-x-3.5 gap-y-1">
    <h1>{r.name}</h1>
    <span class="soft"
      >version {r.version} · owner {r.owner} · read from {r.source}{r.identity
        ? ` as ${r.identity}`
        : ''}</span
    >
    <SourceNote source={r.source} identity={r.identity} />
    <span class="flex-1"></span>
    {#if mayChange(r.owner)}<a class="btn" href={p('/reports/:report/change', { params: { report: r.name } })}
        >Change</a
      >{/if}
  </div>
  <RecordActions
    kind="report"
    name={r.name}
    may={mayChange(r.owner)}
    onrenamed={(to) => void navigate('/reports/:report', { params: { report: to } })}
    oncopied={(to) => void navigate('/reports/:report', { params: { report: to } })}
    onremoved={() => void navigate('/reports')}
  />
  <div class="grid grid-cols-[19rem_1fr] items-start gap-3.5 max-lg:grid-cols-1">
    <div class="grid gap-3.5">
      <section class="panel px-3.5 py-3">
        <h2>It asks for</h2>
        {#if offers.isError}<Trouble error={offers.error} />{/if}
        {#if offers.data}<ValueForm offers={offers.data} bind:values />{/if}
        <div class="mt-3 flex flex-wrap gap-2">
          {#if waits}<button class="btn" onclick={() => ending?.abort()}>Cancel</button>{:else}<button
              class="btn btn-primary"
              onclick={() => void preview()}>Preview</button
            >{/if}
          <a
            class="btn"
            href="{p('/new/job')}?{new URLSearchParams({ report: name, values: JSON.stringify(values) })}"
            >Schedule this</a
          >
        </div>
      </section>
      <ReportFile {name} {values} />
      <section class="panel px-3.5 py-3">
        <h2>Jobs that use it</h2>
        <ul class="grid gap-1">
          {#each r.jobs as j (j.job)}
            <li>
              <a href={p('/jobs/:job', { params: { job: j.job } })}>{j.job}</a>
              <span class="soft">{j.owner}{j.on ? '' : ', off'}</span>
              {#if mayChange(j.owner)}<a
                  class="edit-link"
                  href="{p('/jobs/:job', { params: { job: j.job } })}?{new URLSearchParams({
                    ring: 'yes',
                    values: JSON.stringify(values),
                  })}">Ring with these values</a
                >{/if}
            </li>
          {:else}<li class="soft">None yet.</li>{/each}
        </ul>
      </section>
      <section class="panel px-3.5 py-3">
        <h2>Queries</h2>
        {#each r.sections as s (s.name)}
          {#if s.sql}<details class="mt-1">
              <summary class="py-1">{s.name}</summary>
              <pre class="mono mt-1 overflow-x-auto text-[12px] whitespace-pre-wrap">{s.sql}</pre>
            </details>{/if}
        {/each}
      </section>
    </div>
    <div class="grid min-w-0 gap-3.5">
      {#if trouble}<Trouble error={trouble} />{/if}
      {#each shown as section (section.section)}<SectionView {section} />{/each}
      {#if waits}<p class="soft" role="status">Asking the source for {waits} …</p>{:else if shown.length}<p
          class="soft"
        >
          Read as {readAs}.
        </p>{/if}
    </div>
  </div>
{/if}
