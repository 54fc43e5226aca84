<script lang="ts">
  // Writes the words of a rule for those who click. The words come into the rule's field, where
  // they can be written on.
  import { freshRule, places, ruleWords, weekdays, type Days } from '../lib/ruleform';

  const { write }: { write: (rule: string) => void } = $props();

  const id = $props.id();
  const rule = $state(freshRule());
  const changed = () => write(ruleWords(rule));
  const kinds: [Days, string][] = [
    ['every', 'every day'],
    ['weekdays', 'Monday to Friday'],
    ['open', 'open days of the calendar'],
    ['week', 'days of the week'],
    ['numbers', 'numbered days'],
    ['place', 'the first, last … of a period'],
  ];
  const choice = 'select select-sm bg-base-100 w-auto pr-8';
  const clock = { placeholder: '06:00', class: 'input input-sm bg-base-100 w-20' };
</script>

<div class="border-base-300 grid gap-2 rounded border p-2.5 text-[13px]" oninput={changed}>
  <div class="flex flex-wrap items-center gap-2">
    <label for="{id}-days" class="w-20">Days</label>
    <select id="{id}-days" class={choice} bind:value={rule.days} onchange={changed}>
      {#each kinds as [kind, word] (kind)}<option value={kind}>{word}</option>{/each}
    </select>
    {#if rule.days === 'week'}
      {#each weekdays as d (d)}
        <label class="flex items-center gap-1"
          ><input
            type="checkbox"
            class="checkbox checkbox-sm"
            value={d}
            bind:group={rule.week}
            onchange={changed}
          />{d.slice(0, 3)}<span class="sr-only">{d.slice(3)}</span></label
        >
      {/each}
    {:else if rule.days === 'numbers'}
      <label
        >day <input
          class="input input-sm bg-base-100 w-28"
          placeholder="1, 15"
          bind:value={rule.numbers}
        /></label
      >
    {:else if rule.days === 'place'}
      <select class={choice} aria-label="Which" bind:value={rule.place} onchange={changed}>
        {#each places as place (place)}<option>{place}</option>{/each}
      </select>
      <select class={choice} aria-label="What" bind:value={rule.what} onchange={changed}>
        {#each ['day', 'open day', ...weekdays] as what (what)}<option>{what}</option>{/each}
      </select>
    {/if}
    {#if rule.days === 'numbers' || rule.days === 'place'}
      <label
        >of every
        <select class={choice} bind:value={rule.period} onchange={changed}>
          {#each ['month', 'quarter', 'year'] as const as period (period)}<option>{period}</option>{/each}
        </select></label
      >
    {/if}
  </div>
  <div class="flex flex-wrap items-center gap-2">
    <label for="{id}-often" class="w-20">Times</label>
    <select id="{id}-often" class={choice} bind:value={rule.often} onchange={changed}>
      <option value="at">at</option>
      <option value="repeat">again and again, every</option>
    </select>
    {#if rule.often === 'at'}
      {#each rule.times, i (i)}
        <input {...clock} aria-label="Time {i + 1}" bind:value={rule.times[i]} />
      {/each}
      <button type="button" class="edit-link" onclick={() => rule.times.push('')}>Add a time</button>
    {:else}
      <input
        type="number"
        min="1"
        max="1000"
        class="input input-sm bg-base-100 w-20"
        aria-label="How many"
        bind:value={rule.step}
      />
      <select class={choice} aria-label="Unit" bind:value={rule.unit} onchange={changed}>
        <option>minutes</option><option>hours</option>
      </select>
      <label>between <input {...clock} bind:value={rule.from} /></label>
      <label>and <input {...clock} bind:value={rule.to} /></label>
    {/if}
  </div>
  <div class="flex flex-wrap items-center gap-2">
    <label for="{id}-closed" class="w-20">Closed days</label>
    <select id="{id}-closed" class={choice} bind:value={rule.closed} onchange={changed}>
      <option value="">ring all the same</option>
      <option value="skip">are passed over</option>
      <option value="before">move to the open day before</option>
      <option value="after">move to the open day after</option>
    </select>
    <span class="flex-1"></span>
    <button type="button" class="btn btn-sm" onclick={changed}>Write “{ruleWords(rule)}”</button>
  </div>
</div>
