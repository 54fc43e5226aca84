<script lang="ts">
  // A field of a form, written as what it takes wants it: a choice, some lines, or a
  // line of text.
  import Field from './Field.svelte';

  const {
    label,
    name,
    help = '',
    form = 'text',
    value = '',
    choices = [],
    none = '',
    hint = '',
    rows = 1,
    needed = false,
    autocomplete = form === 'password' ? 'new-password' : undefined,
  }: {
    label: string;
    name: string;
    help?: string;
    form?: 'text' | 'number' | 'email' | 'password' | 'choice' | 'lines';
    value?: string;
    choices?: string[];
    none?: string; // what the empty choice says
    hint?: string;
    rows?: number;
    needed?: boolean;
    autocomplete?: 'current-password' | 'new-password';
  } = $props();
</script>

<Field {label} {help}>
  {#snippet children(names)}
    {#if form === 'choice'}
      <select {...names} {name} class="select select-sm bg-base-100 w-full" {value}>
        <option value="">{none}</option>
        {#each choices as one (one)}<option value={one}>{one}</option>{/each}
      </select>
    {:else if form === 'lines'}
      <textarea
        {...names}
        {name}
        {rows}
        class="textarea bg-base-100 mono min-h-8 w-full py-1"
        placeholder={hint}
        {value}></textarea>
    {:else}
      <input
        {...names}
        {name}
        type={form === 'number' ? 'text' : form}
        inputmode={form === 'number' ? 'numeric' : undefined}
        {autocomplete}
        class="input input-sm bg-base-100 w-full"
        placeholder={hint}
        required={needed}
        {value}
      />
    {/if}
  {/snippet}
</Field>
