<script lang="ts">
  // What a limit or a freeze is of: everything, a source, a destination, or a tag of jobs.
  import { createQuery } from '@tanstack/svelte-query';
  import { asks } from '../../lib/queries';
  import Field from '../Field.svelte';

  let { label = $bindable(''), without = [] }: { label?: string; without?: string[] } = $props();
  const sources = createQuery(() => asks.sourcePages());
  const destinations = createQuery(() => asks.destinations());
  let tag = $state('');
  const offered = $derived(
    [
      { value: 'service', text: 'everything' },
      ...(sources.data ?? []).map((s) => ({ value: `source:${s.name}`, text: `source ${s.name}` })),
      ...(destinations.data ?? []).map((d) => ({
        value: `destination:${d.name}`,
        text: `destination ${d.name}`,
      })),
    ].filter((o) => !without.includes(o.value)),
  );
</script>

<Field label="Of what" help="A tag is a word that jobs carry.">
  {#snippet children(names)}
    <select
      {...names}
      class="select select-sm bg-base-100 w-full"
      value={tag ? 'tag' : label}
      onchange={(e) => {
        tag = e.currentTarget.value === 'tag' ? ' ' : '';
        label = tag ? '' : e.currentTarget.value;
      }}
    >
      <option value="">choose …</option>
      {#each offered as o (o.value)}<option value={o.value}>{o.text}</option>{/each}
      <option value="tag">jobs with a tag …</option>
    </select>
  {/snippet}
</Field>
{#if tag}
  <Field label="Tag">
    {#snippet children(names)}
      <input
        {...names}
        class="input input-sm bg-base-100 w-full"
        value={tag.trim()}
        oninput={(e) => {
          tag = e.currentTarget.value || ' ';
          label = tag.trim() ? `tag:${tag.trim()}` : '';
        }}
      />
    {/snippet}
  </Field>
{/if}
