<script lang="ts">
  // Beside an editor, at all times: what will happen, what is missing, who will see it.
  import type { Ahead } from '../../lib/api';
  import { goTo, type Fault } from '../../lib/editing/context';
  import { now } from '../../lib/now.svelte';
  import { distance } from '../../lib/time';
  import ZonedTime from '../ZonedTime.svelte';

  const {
    ahead,
    faults,
    looking,
    on,
  }: { ahead: Ahead | undefined; faults: Fault[]; looking: boolean; on: boolean } = $props();
  const seen = $derived([...new Set((ahead?.tasks ?? []).map((t) => t.seen).filter(Boolean))]);
  const files = $derived([
    ...new Set((ahead?.tasks ?? []).filter((t) => t.destination).flatMap((t) => t.files ?? [])),
  ]);
  const several = $derived(ahead?.next.some((r) => r.reading !== ahead.next[0]?.reading));
  const trouble = $derived((ahead?.tasks ?? []).filter((t) => t.wrong || t.notes?.length));
</script>

<div class="grid grid-cols-1 gap-3 [overflow-wrap:anywhere]">
  <section>
    <h2>What will happen</h2>
    <p aria-live="polite">{ahead?.says ?? 'Nothing yet.'}</p>
    {#if looking}<p class="soft text-[12.5px]" role="status">Looking …</p>{/if}
  </section>
  <section class="rule-above">
    <h2>Next rings</h2>
    {#each ahead?.next.slice(0, 3) ?? [] as r (r.due + r.reading)}
      <div class="flex justify-between gap-3">
        <span
          ><ZonedTime at={r.due} zone={ahead?.zone ?? 'UTC'} />{#if several}
            <span class="soft block text-[12.5px]">{r.reading}</span>{/if}</span
        ><span class="soft whitespace-nowrap">{distance(r.due, now.ms)}</span>
      </div>
    {:else}<p class="soft">None of its own.</p>{/each}
  </section>
  <section class="rule-above">
    <h2>Missing or wrong</h2>
    {#each faults as f (f.n)}
      <p class="py-0.5">
        <span class="flag">{f.n}</span>
        <button type="button" class="cursor-pointer text-left underline" onclick={() => goTo(f.where)}
          >{f.sentence}</button
        >
      </p>
    {:else}
      <p class="text-success">
        {ahead ? `Nothing. It can be ${on ? 'saved and rings' : 'switched on'}.` : ''}
      </p>
    {/each}
    {#each ahead?.covered ?? [] as c (c.trigger)}
      <p class="text-warning">
        <button
          type="button"
          class="cursor-pointer text-left underline"
          onclick={() => goTo(`triggers[${c.trigger}].rule`)}>{c.says}</button
        >
      </p>
    {/each}
    {#each trouble as t (t.task)}
      {#if t.wrong}<p class="text-warning"><b>{t.task}</b>: {t.wrong}</p>{/if}
      {#each t.notes ?? [] as note (note)}<p class="soft"><b>{t.task}</b>: {note}</p>{/each}
    {/each}
  </section>
  <section class="rule-above">
    <h2>Who will see it</h2>
    {#each seen as text (text)}<p class="first-letter:uppercase">{text}.</p>{:else}<p class="soft">
        Nobody yet.
      </p>{/each}
    {#each files as file (file)}<p class="mono break-words">{file}</p>{/each}
  </section>
</div>
