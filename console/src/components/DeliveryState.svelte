<script lang="ts">
  // The state of a delivery, and why it is kept back when it is.
  import type { Delivery } from '../lib/api';
  import StateMark from './StateMark.svelte';

  const { delivery }: { delivery: Delivery } = $props();
  const words: Record<string, string> = {
    rest: 'waits: destination down',
    yes: 'waits for a yes',
    silent: 'kept back: silent',
    turn: 'waits for the one before',
  };
</script>

<StateMark
  state={delivery.state}
  word={delivery.state === 'waiting' && delivery.kept_back ? words[delivery.kept_back] : delivery.state}
/>
