<script lang="ts">
  // One field of a record: written as what it takes wants it.
  import { around, faultsAt } from '../../lib/editing/context';
  import { byItself, type Hint, type Written } from '../../lib/editing/hint';
  import { choiceOf, helpOf, labelOf } from '../../lib/editing/labels';
  import Fields from './Fields.svelte';
  import Flags from './Flags.svelte';
  import Lines from './Lines.svelte';
  import Many from './Many.svelte';
  import PutIn from './PutIn.svelte';
  import Recipients from './Recipients.svelte';
  import Sections from './Sections.svelte';
  import Sql from './Sql.svelte';
  import Words from './Words.svelte';

  let {
    of,
    name,
    hint,
    path,
    beside,
    value = $bindable(),
  }: { of: string; name: string; hint: Hint; path: string; beside: Written; value: unknown } = $props();

  const { faults, offers, parts } = around();
  const id = $props.id();
  const label = $derived(labelOf(of, name));
  const help = $derived(helpOf(hint.help));
  const nested = $derived(hint.form === 'one' || hint.form === 'many');
  const mine = $derived(faultsAt(faults(), path, !nested));
  const offer = $derived(offers(of, name, path));
  const names = $derived({
    id,
    'aria-describedby': `${id}-help`,
    'aria-invalid': mine.length > 0 || undefined,
  });
  // A value by itself is of its parameter's type.
  const counts = $derived(
    ['whole', 'number'].includes(hint.form === 'any' ? String(beside.type) : hint.form),
  );
  /** What was typed; what is no number goes to the service as it is, which says so. */
  function counted(text: string): unknown {
    if (text === '') return undefined;
    return counts && Number.isFinite(Number(text)) ? Number(text) : text;
  }
  $effect(() => {
    if (hint.form !== 'any' || Array.isArray(value) || value === undefined) return;
    value = counts ? counted(String(value)) : typeof value === 'number' ? String(value) : value;
  });
  $effect.pre(() => {
    if (hint.form === 'one' && !value) value = {};
    if (hint.form === 'many' && !value) value = [];
  });
  const moving = $derived(
    /moving part/.test(hint.help ?? '') || ['only_if', 'blank_if'].includes(name)
      ? (parts?.(path) ?? [])
      : [],
  );
  const nothing = $derived(byItself(hint.help));
  const broad = $derived(
    ['long', 'pairs', 'choices'].includes(hint.form) ||
      ['to', 'cc', 'bcc', 'calendars', 'tags', 'uses'].includes(name),
  );
</script>

{#if hint.form === 'one' && hint.of}
  <fieldset class="col-span-full" data-path={path}>
    <legend class="text-[13px] font-semibold">{label}</legend>
    <div class="border-base-300 mt-1 border-l-2 pl-3" title={help}>
      {#if value}<Fields of={hint.of} bind:record={value as Written} {path} />{/if}
    </div>
    <Flags faults={mine} />
  </fieldset>
{:else if hint.form === 'many' && hint.of}
  <div class="col-span-full" data-path={path}>
    {#if value && hint.of === 'Chosen'}<Sections bind:list={value as Written[]} {path} />
    {:else if value}<Many of={hint.of} {label} {help} bind:list={value as Written[]} {path} />{/if}
    <Flags faults={mine} />
  </div>
{:else if hint.form === 'flag'}
  <div data-path={path} class="field flex items-end">
    <label class="flex min-h-8 items-center gap-2 text-[13px]"
      ><input
        {...names}
        type="checkbox"
        class="checkbox checkbox-xs"
        checked={value === true}
        onchange={(e) => (value = e.currentTarget.checked || undefined)}
      />{label}</label
    >
    {#if help}<p id="{id}-help" class="field-help">{help}</p>{/if}
    <Flags faults={mine} />
  </div>
{:else}
  <div data-path={path} class="field {broad ? 'col-span-full' : ''}">
    <label for={id} class="block text-[13px] font-semibold">{label}</label>
    {#if hint.form === 'choice' || offer?.closed}
      {@const words = hint.form === 'choice' ? (hint.choices ?? []) : (offer?.words ?? [])}
      <select
        {...names}
        class="select select-sm bg-base-100 w-full"
        value={value ?? ''}
        onchange={(e) => (value = e.currentTarget.value || undefined)}
      >
        {#if !hint.needed || !value}<option value=""
            >{nothing ? choiceOf(nothing) : hint.needed ? 'choose one' : ''}</option
          >{/if}
        {#if value && !words.includes(String(value))}<option value={String(value)}>{value}</option>{/if}
        {#each words as word (word)}<option value={word}>{choiceOf(word)}</option>{/each}
      </select>
    {:else if hint.form === 'choices'}
      <span class="flex min-h-7 flex-wrap items-center gap-x-4" role="group" aria-label={label}>
        {#each hint.choices ?? [] as word (word)}
          {@const on = Array.isArray(value) && value.includes(word)}
          <label class="flex items-center gap-1.5 text-[13px]"
            ><input
              type="checkbox"
              class="checkbox checkbox-xs"
              checked={on}
              onchange={() => {
                const had = (Array.isArray(value) ? value : []) as string[];
                value = on ? had.filter((w) => w !== word) : [...had, word];
              }}
            />{choiceOf(word)}</label
          >
        {/each}
      </span>
    {:else if name === 'sql'}
      <Sql {names} {label} sentences={mine.map((f) => f.sentence)} bind:value />
    {:else if (of === 'DeliverTask' && ['to', 'cc', 'bcc'].includes(name)) || name === 'joiners' || name === 'schedulers'}
      <Recipients {names} {label} bind:value />
    {:else if hint.form === 'list' && offer}
      <Words {names} {label} words={offer.words} bind:value />
    {:else if hint.form === 'list' || hint.form === 'pairs' || hint.form === 'long'}
      <Lines {names} form={hint.form} hint={nothing} bind:value />
    {:else}
      <input
        {...names}
        class="input input-sm bg-base-100 w-full"
        inputmode={hint.form === 'whole' || hint.form === 'number' ? 'decimal' : undefined}
        list={offer ? `${id}-words` : undefined}
        placeholder={nothing}
        value={value ?? ''}
        oninput={(e) => (value = counted(e.currentTarget.value))}
      />
      {#if offer}<datalist id="{id}-words"
          >{#each offer.words as word (word)}<option value={word}></option>{/each}</datalist
        >{/if}
    {/if}
    {#if moving.length}<PutIn field={id} {help} parts={moving} />
    {:else if help}<p id="{id}-help" class="field-help">{help}</p>{/if}
    <Flags faults={mine} />
  </div>
{/if}
