<script lang="ts">
  // What a report asks for: a field for each parameter, with its choices, its
  // help, and what the value comes to. Choices follow from the values before.
  import type { Offered, Values } from '../lib/api';

  let { offers, values = $bindable() }: { offers: Offered[]; values: Values } = $props();

  function text(o: Offered): string {
    const v = values[o.name] ?? o.default ?? '';
    return Array.isArray(v) ? v.join(', ') : String(v);
  }
  function picked(o: Offered): string[] {
    const v = values[o.name] ?? o.default;
    if (Array.isArray(v)) return v.map(String);
    return v === undefined || v === null || v === '' ? [] : [String(v)];
  }
  function set(name: string, value: unknown) {
    values = { ...values, [name]: value };
  }
  function toggle(o: Offered, value: string, on: boolean) {
    const had = picked(o).filter((v) => v !== value && v !== 'all');
    set(o.name, on ? [...had, value] : had);
  }
  /** What the value comes to, where that is not what was written. */
  function comes(o: Offered): string {
    const b = o.bound;
    if (!b || b.null) return '';
    return b.from ? b.text.slice(0, o.type === 'date' ? 10 : 16).replace('T', ' ') : '';
  }
</script>

<div class="grid gap-3">
  {#each offers as o (o.name)}
    {@const id = `value-${o.name}`}
    <div class="grid gap-1">
      {#if o.several && o.offers}
        <fieldset class="grid gap-1">
          <legend class="text-[13px] font-semibold">{o.label || o.name}</legend>
          <div class="flex flex-wrap gap-x-4 gap-y-1">
            {#if o.all}
              <label class="flex min-h-7 items-center gap-1.5 text-[13px]"
                ><input
                  type="checkbox"
                  class="checkbox checkbox-xs"
                  checked={picked(o).includes('all')}
                  onchange={(e) => set(o.name, e.currentTarget.checked ? 'all' : [])}
                />All</label
              >
            {/if}
            {#each o.offers as c (c.value)}
              <label class="flex min-h-7 items-center gap-1.5 text-[13px]"
                ><input
                  type="checkbox"
                  class="checkbox checkbox-xs"
                  checked={picked(o).includes(c.value)}
                  onchange={(e) => toggle(o, c.value, e.currentTarget.checked)}
                />{c.label || c.value}</label
              >
            {/each}
          </div>
        </fieldset>
      {:else}
        <label class="text-[13px] font-semibold" for={id}>{o.label || o.name}</label>
        {#if o.offers}
          <select
            {id}
            class="select select-sm bg-base-100"
            value={text(o)}
            onchange={(e) => set(o.name, e.currentTarget.value)}
          >
            {#if !o.required}<option value="">none</option>{/if}
            {#if o.all}<option value="all">All</option>{/if}
            {#each o.offers as c (c.value)}<option value={c.value}>{c.label || c.value}</option>{/each}
          </select>
        {:else if o.type === 'yes/no'}
          <select
            {id}
            class="select select-sm bg-base-100"
            value={text(o)}
            onchange={(e) => set(o.name, e.currentTarget.value)}
          >
            {#if !o.required}<option value="">none</option>{/if}
            <option value="true">yes</option><option value="false">no</option>
          </select>
        {:else}
          <input
            {id}
            class="input input-sm bg-base-100"
            value={text(o)}
            aria-describedby={`${id}-says`}
            onchange={(e) => set(o.name, e.currentTarget.value)}
          />
        {/if}
      {/if}
      <p id={`${id}-says`} class="text-[12.5px]" class:text-error={o.trouble}>
        {#if o.trouble}{o.trouble}{:else if comes(o)}<span class="soft">is {comes(o)}</span
          >{:else if o.help}<span class="soft">{o.help}</span>{:else if o.type === 'date'}<span class="soft"
            >a date, or a moment such as start of month</span
          >{/if}
      </p>
    </div>
  {:else}
    <p class="soft">This report asks for nothing.</p>
  {/each}
</div>
