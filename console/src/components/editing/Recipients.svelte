<script lang="ts">
  // Who gets a mail: written or chosen, with who that is now.
  import { createQuery } from '@tanstack/svelte-query';
  import { asks } from '../../lib/queries';

  type Names = { id: string; 'aria-describedby': string; 'aria-invalid'?: boolean };
  let { names, label, value = $bindable() }: { names: Names; label: string; value: unknown } = $props();

  const people = createQuery(() => asks.people());
  const groups = createQuery(() => asks.groups());
  const posts = createQuery(() => asks.posts());
  const chosen = $derived((Array.isArray(value) ? value : []) as string[]);
  const known = $derived([
    ...(people.data ?? []).map((one) => ({ word: `person:${one.login}`, says: one.name })),
    ...(groups.data ?? []).map((one) => ({ word: `group:${one.name}`, says: 'group' })),
    ...(posts.data ?? []).flatMap((one) => [
      { word: `post:${one.name}`, says: 'post' },
      { word: `under:${one.name}`, says: 'post and all under it' },
    ]),
  ]);
  const says = (word: string) => known.find((k) => k.word === word)?.says;
  const plain = $derived(chosen.filter((w) => !w.includes('{')));
  const whom = createQuery(() => asks.whom(plain.join('\n')));

  let text = $state('');
  function add() {
    const more = text
      .split(/[,;\n]/)
      .map((t) => t.trim())
      .filter((t) => t && !chosen.includes(t));
    text = '';
    if (more.length) value = [...chosen, ...more];
  }
</script>

<div class="border-base-300 flex flex-wrap items-center gap-1 rounded border p-1">
  {#each chosen as word (word)}
    <span class="bg-base-200 flex items-center gap-1.5 rounded px-1.5 text-[13px]">
      <span class="break-all">{word}</span>
      {#if says(word)}<span class="soft">{says(word)}</span>{/if}
      <button
        type="button"
        class="cursor-pointer px-1"
        aria-label="Take {word} out"
        onclick={() => (value = chosen.filter((w) => w !== word))}>×</button
      >
    </span>
  {/each}
  <input
    {...names}
    class="input input-sm bg-base-100 min-w-40 flex-1 border-0"
    list="{names.id}-known"
    placeholder={chosen.length ? '' : 'addresses, people, groups or posts'}
    aria-label={label}
    bind:value={text}
    onkeydown={(e) => {
      if (e.key !== 'Enter' && e.key !== ',' && e.key !== ';') return;
      e.preventDefault();
      add();
    }}
    onchange={add}
  />
  <datalist id="{names.id}-known"
    >{#each known as k (k.word)}<option value={k.word}>{k.says}</option>{/each}</datalist
  >
</div>
{#if plain.length && whom.data}
  <details class="text-[13px]">
    <summary class="cursor-pointer"
      >{whom.data.addresses.length === 1
        ? '1 address now'
        : `${whom.data.addresses.length} addresses now`}{plain.length < chosen.length
        ? ', and those that are known when it runs'
        : ''}</summary
    >
    <p class="soft break-words">{whom.data.addresses.join(', ')}</p>
    {#each whom.data.wrong ?? [] as w (w.where + w.sentence)}<p class="text-error">{w.sentence}</p>{/each}
    {#each whom.data.notes ?? [] as note (note)}<p class="soft">{note}</p>{/each}
  </details>
{/if}
{#if whom.isError}<p class="text-error text-[13px]">
    {whom.error instanceof Error ? whom.error.message : ''}
  </p>{/if}
