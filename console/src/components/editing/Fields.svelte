<script lang="ts">
  // The fields of a record, or some of them, as the service describes them.
  import { untrack } from 'svelte';
  import { around } from '../../lib/editing/context';
  import { isEmpty, type Written } from '../../lib/editing/hint';
  import { hints } from '../../lib/editing/hints.gen';
  import { ordered } from '../../lib/editing/order';
  import Control from './Control.svelte';

  let {
    of,
    record = $bindable(),
    path,
    only,
    leave = [],
  }: {
    of: string;
    record: Written;
    path: string;
    only?: string[]; // these, in this order
    leave?: string[];
  } = $props();

  const { faults } = around();
  const known = $derived(hints[of] ?? {});
  const names = $derived(only ? { first: only, more: [] } : ordered(of, Object.keys(known), leave));
  const at = (name: string) => (path ? `${path}.${name}` : name);
  const says = untrack(() => names.more.some((n) => !isEmpty(record[n])));
  const wrong = $derived(names.more.some((n) => faults().some((f) => f.where.startsWith(at(n)))));
</script>

{#snippet all(list: string[])}
  <div class="fields">
    {#each list as name (name)}
      {@const hint = known[name]}
      {#if hint}<Control {of} {name} {hint} path={at(name)} beside={record} bind:value={record[name]} />{/if}
    {/each}
  </div>
{/snippet}

{@render all(names.first)}
{#if names.more.length}
  <details class="mt-1" open={says || wrong}>
    <summary class="soft min-h-7 cursor-pointer py-1 text-[13px]">More</summary>
    {@render all(names.more)}
  </details>
{/if}
