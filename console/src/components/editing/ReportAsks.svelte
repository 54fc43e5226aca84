<script lang="ts">
  // What a report asks for: parameters for the names that stand in its queries, and the values
  // with which it is looked at.
  import { createQuery } from '@tanstack/svelte-query';
  import type { ReportRequest, Values } from '../../lib/api';
  import type { Written } from '../../lib/editing/hint';
  import { asked, parameterFor, queriesOf } from '../../lib/editing/report';
  import { asks } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ValueForm from '../ValueForm.svelte';
  import Many from './Many.svelte';

  let {
    record = $bindable(),
    values = $bindable(),
    name,
    definition,
  }: { record: Written; values: Values; name: string; definition: ReportRequest } = $props();

  $effect.pre(() => {
    record.parameters ??= [];
  });
  const had = $derived(((record.parameters ?? []) as Written[]).map((q) => String(q.name ?? '')));
  const found = $derived([...new Set(queriesOf(record).flatMap(asked))]);
  const missing = $derived(found.filter((n) => !had.includes(n) && !had.includes(n.replace(/_all$/, ''))));
  const unused = $derived(had.filter((n) => n && !found.includes(n)));
  const plain = $derived({
    source: definition.source,
    parameters: definition.parameters,
    identity: definition.identity,
    // Choices are asked of the parameters alone; a report has at least one section.
    sections: [{ name: 'none', sql: 'SELECT 1' }],
  });
  const offers = createQuery(() => asks.choicesOf(name || 'new report', plain, values));
</script>

{#each missing as one (one)}
  <p class="py-0.5">
    <span class="mono">:{one}</span> stands in a query and is not asked for.
    <button
      type="button"
      class="edit-link"
      onclick={() => (record.parameters = [...((record.parameters ?? []) as Written[]), parameterFor(one)])}
      >Ask for {one}</button
    >
  </p>
{/each}
{#if unused.length}<p class="soft py-0.5 text-[13px]">No query speaks of {unused.join(', ')}.</p>{/if}
{#if record.parameters}
  <div data-path="parameters">
    <Many
      of="Parameter"
      label="Parameters"
      bind:list={() => record.parameters as Written[], (to) => (record.parameters = to)}
      path="parameters"
    />
  </div>
{/if}
{#if had.length}
  <div class="border-base-300 mt-2 max-w-3xl border-t pt-2">
    <p class="soft pb-1 text-[12.5px]">Looked at with these values:</p>
    {#if offers.isError}<Trouble error={offers.error} />{/if}
    {#if offers.data}<ValueForm offers={offers.data} bind:values />{/if}
  </div>
{/if}
