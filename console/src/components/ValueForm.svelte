<script lang="ts">
  // What a report or a job asks for: a field for each value, with its choices, its help, and
  // what it comes to. Choices follow from the values before. What nobody gives is by itself.
  import type { Asked, Offered, Values } from '../lib/api';
  import ValueField from './ValueField.svelte';

  let {
    offers,
    values = $bindable(),
    nothing = 'This report asks for nothing.',
    at = '',
  }: {
    offers: (Offered | Asked)[];
    values: Values;
    nothing?: string;
    at?: string; // path of the values, for the flags of an editor
  } = $props();

  function set(name: string, value: unknown) {
    const others = Object.entries(values).filter(([key]) => key !== name);
    const next = Object.fromEntries(value === undefined ? others : [...others, [name, value]]);
    values = next;
  }
</script>

<div class="grid gap-3">
  {#each offers as offer (offer.name)}
    <div data-path={at ? `${at}.${offer.name}` : undefined}>
      <ValueField {offer} value={values[offer.name]} set={(v) => set(offer.name, v)} />
    </div>
  {:else}
    <p class="soft">{nothing}</p>
  {/each}
</div>
