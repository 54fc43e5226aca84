<script lang="ts">
  // The fields of a record, or some of them, as the service describes them.
  import type { Written } from '../../lib/editing/hint';
  import { hints } from '../../lib/editing/hints.gen';
  import Control from './Control.svelte';

  let {
    of,
    record = $bindable(),
    path,
    only,
    leave = [],
    wide = false,
  }: {
    of: string;
    record: Written;
    path: string;
    only?: string[]; // in this order
    leave?: string[];
    wide?: boolean; // one below the other
  } = $props();

  const known = $derived(hints[of] ?? {});
  const names = $derived(only ?? Object.keys(known).filter((n) => !leave.includes(n)));
</script>

<div class="grid gap-x-6 gap-y-2 {wide ? '' : 'xl:grid-cols-2'}">
  {#each names as name (name)}
    {@const hint = known[name]}
    {#if hint}<Control
        {of}
        {name}
        {hint}
        path={path ? `${path}.${name}` : name}
        bind:value={record[name]}
      />{/if}
  {/each}
</div>
