<script lang="ts">
  // The rule editor alone, for its test.
  import { QueryClient, QueryClientProvider } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import type { Timing } from '../../lib/api';
  import RuleEditor from '../RuleEditor.svelte';

  const { rule }: { rule: string } = $props();
  let timing = $state<Timing>({ rule: untrack(() => rule) });
</script>

<QueryClientProvider client={new QueryClient()}
  ><RuleEditor bind:timing zone="Europe/London" /></QueryClientProvider
>
