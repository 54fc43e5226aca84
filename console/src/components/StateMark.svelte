<script lang="ts">
  // A state as glyph, word and colour: colour is never the only sign.
  import { colour, toneOf } from '../lib/state';

  const { state, word = state }: { state: string; word?: string } = $props();
  const tone = $derived(toneOf(state));
</script>

<span
  class="inline-flex items-baseline gap-[5px] font-semibold whitespace-nowrap"
  style:color={colour[tone]}
  data-state={state}
>
  <svg width="12" height="12" viewBox="0 0 12 12" class="relative top-[1.5px] flex-none" aria-hidden="true">
    {#if state === 'unknown'}
      <circle cx="6" cy="6" r="5" fill="none" stroke="currentColor" stroke-width="1.4" />
      <path
        d="M4.500 4.800c0-2 3-2 3 0 0 1.200-1.500 1.200-1.500 2.400M6 8.600v.8"
        fill="none"
        stroke="currentColor"
        stroke-width="1.300"
      />
    {:else if state === 'partly'}
      <rect
        x="1"
        y="1.500"
        width="10"
        height="9"
        rx="1.500"
        fill="none"
        stroke="currentColor"
        stroke-width="1.4"
      />
      <path d="M1 1.500h5v9H1z" fill="currentColor" />
    {:else if state === 'passed over' || state === 'cancelled' || state === 'lost' || state === 'declined'}
      <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" stroke-width="1.6" />
    {:else if tone === 'done'}
      <rect x="1" y="1.500" width="10" height="9" rx="1.500" fill="currentColor" />
      <path
        d="M3.400 6.200l1.900 1.900 3.400-3.900"
        fill="none"
        stroke="var(--color-base-100)"
        stroke-width="1.500"
      />
    {:else if tone === 'fail'}
      <path d="M6 0l6 12H0z" fill="currentColor" />
      <path d="M6 4v4M6 9.200v1.200" stroke="var(--color-base-100)" stroke-width="1.4" />
    {:else if tone === 'wait'}
      <path d="M1 1h10L6 6l5 5H1l5-5z" fill="none" stroke="currentColor" stroke-width="1.4" />
    {:else if tone === 'run'}
      <path d="M1 9c2-8 4 2 5-3s3-4 5-2" fill="none" stroke="currentColor" stroke-width="1.8" />
    {:else}
      <rect x="1" y="3.500" width="10" height="5" fill="none" stroke="currentColor" stroke-width="1.4" />
    {/if}
  </svg>
  {word}
</span>
