<script lang="ts">
  // One value: chosen from what there is, picked from a calendar, or written in words.
  import type { Asked, Offered } from '../lib/api';

  const {
    offer: o,
    value,
    set,
  }: {
    offer: Offered | Asked;
    value: unknown; // undefined: what it is by itself
    set: (value: unknown) => void;
  } = $props();

  const id = $derived(`value-${o.name}`);
  const itself = $derived('by_self' in o ? o.by_self : o.default);
  const from = $derived(
    'from' in o
      ? { trigger: 'the trigger has it', job: 'the job has it', report: 'the report has it', nothing: '' }[
          o.from
        ]
      : 'the report has it',
  );
  const stands = $derived(value ?? itself);
  const picked = $derived(
    Array.isArray(stands)
      ? stands.map(String)
      : stands === undefined || stands === null || stands === ''
        ? []
        : [String(stands)],
  );
  const gone = $derived(
    o.offers ? picked.filter((v) => !(o.all && v === 'all') && !o.offers?.some((c) => c.value === v)) : [],
  );
  const dated = $derived(o.type === 'date' || o.type === 'instant');

  function toggle(word: string, on: boolean) {
    const had = picked.filter((v) => v !== word && v !== 'all');
    set(on ? [...had, word] : had);
  }
  function write(text: string) {
    if (text.trim() === '') set(undefined);
    else if (o.several && !(o.all && text.trim().toLowerCase() === 'all'))
      set(
        text
          .split(/[,;\n]/)
          .map((t) => t.trim())
          .filter(Boolean),
      );
    else set(text);
  }
  /** What the value comes to, where that is not what was written. */
  const comes = $derived.by(() => {
    const b = o.bound;
    if (!b || b.null) return '';
    if (b.from) return b.text.slice(0, o.type === 'date' ? 10 : 16).replace('T', ' ');
    return b.shown && b.shown !== b.text ? b.shown : '';
  });
</script>

<div class="grid gap-1">
  {#if o.several && o.offers}
    <fieldset class="grid gap-1" aria-describedby="{id}-says">
      <legend class="text-[13px] font-semibold">{o.label || o.name}</legend>
      <div class="flex max-h-40 flex-wrap gap-x-4 gap-y-1 overflow-y-auto">
        {#if o.all}
          <label class="flex min-h-7 items-center gap-1.5 text-[13px]"
            ><input
              type="checkbox"
              class="checkbox checkbox-xs"
              checked={picked.includes('all')}
              onchange={(e) => set(e.currentTarget.checked ? 'all' : [])}
            />All</label
          >
        {/if}
        {#each o.offers as c (c.value)}
          <label class="flex min-h-7 items-center gap-1.5 text-[13px]"
            ><input
              type="checkbox"
              class="checkbox checkbox-xs"
              checked={picked.includes(c.value)}
              onchange={(e) => toggle(c.value, e.currentTarget.checked)}
            />{c.label || c.value}</label
          >
        {/each}
        {#each gone as word (word)}
          <label class="text-error flex min-h-7 items-center gap-1.5 text-[13px]"
            ><input
              type="checkbox"
              class="checkbox checkbox-xs"
              checked
              onchange={() => toggle(word, false)}
            />{word}, not offered any more</label
          >
        {/each}
      </div>
    </fieldset>
  {:else}
    <label class="text-[13px] font-semibold" for={id}>{o.label || o.name}</label>
    {#if o.offers || o.type === 'yes/no'}
      <select
        {id}
        class="select select-sm bg-base-100 w-full"
        aria-describedby="{id}-says"
        value={picked[0] ?? ''}
        onchange={(e) =>
          set(e.currentTarget.value === '' ? (itself === undefined ? undefined : '') : e.currentTarget.value)}
      >
        {#if !o.required || picked.length === 0}<option value="">{o.required ? 'choose one' : 'none'}</option
          >{/if}
        {#if o.type === 'yes/no'}<option value="true">yes</option><option value="false">no</option>{/if}
        {#if o.all}<option value="all">All</option>{/if}
        {#each gone as word (word)}<option value={word}>{word}, not offered any more</option>{/each}
        {#each o.offers ?? [] as c (c.value)}<option value={c.value}>{c.label || c.value}</option>{/each}
      </select>
    {:else}
      <div class="flex gap-1.5">
        <input
          {id}
          class="input input-sm bg-base-100 w-full min-w-0"
          class:mono={dated}
          value={picked.join(', ')}
          placeholder={o.several ? 'several, with commas between' : ''}
          aria-describedby="{id}-says"
          onchange={(e) => write(e.currentTarget.value)}
        />
        {#if dated && !o.several}<input
            type="date"
            class="input input-sm bg-base-100 picker"
            tabindex="-1"
            aria-label="{o.label || o.name}, from a calendar"
            value={o.bound?.text.slice(0, 10) ?? ''}
            onchange={(e) => e.currentTarget.value && set(e.currentTarget.value)}
          />{/if}
      </div>
    {/if}
  {/if}
  <p id="{id}-says" class="flex flex-wrap gap-x-2 text-[12.5px]">
    {#if o.trouble}<span class="text-error">{o.trouble}</span>{/if}
    {#if comes && !o.trouble}<span class="soft">is {comes}</span>{/if}
    {#if value === undefined && stands !== undefined && from}<span class="soft">{from}</span>{/if}
    {#if value !== undefined && itself !== undefined}<button
        type="button"
        class="edit-link text-[12.5px]!"
        onclick={() => set(undefined)}>By itself: {Array.isArray(itself) ? itself.join(', ') : itself}</button
      >{/if}
    {#if o.help}<span class="soft">{o.help}</span>{:else if dated && !comes && !o.trouble}<span class="soft"
        >a date, or a moment such as start of month</span
      >{/if}
  </p>
</div>
