<script lang="ts">
  // What a job would do when it rings next: dates, files, recipients, who will be
  // able to see the result, and what is missing.
  import type { Ahead } from '../lib/api';
  import { day } from '../lib/time';
  import StateMark from './StateMark.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const { ahead }: { ahead: Ahead } = $props();
  const several = $derived(ahead.next.some((r) => r.reading !== ahead.next[0]?.reading));
  const dayOf = (at: string) => day(at, ahead.zone);
</script>

<div class="grid gap-2 text-[13px]" role="status">
  {#each ahead.wrong as w (`${w.where} ${w.sentence}`)}
    <p class="text-error">
      <StateMark state="failed" word="" />
      {#if w.where}<span class="mono">{w.where}</span>:{/if}
      {w.sentence}
    </p>
  {/each}
  <p>{ahead.says}</p>
  {#each ahead.covered ?? [] as c (c.trigger)}<p class="text-warning">{c.says}</p>{/each}
  {#if ahead.next.length}
    <p class="flex flex-wrap gap-x-3">
      <b>Rings</b>
      {#each ahead.next.slice(0, 4) as r, n (n)}
        <span
          ><ZonedTime at={r.due} zone={ahead.zone} />{#if dayOf(r.due) !== dayOf(r.nominal)}
            <span class="soft">for {dayOf(r.nominal)}</span>{/if}{#if several}
            <span class="soft">{r.reading}</span>{/if}</span
        >
      {/each}
      {#if ahead.next.length > 4}<span class="soft">and so on</span>{/if}
    </p>
  {:else}<p class="soft">It rings at no time of its own.</p>{/if}
  {#if ahead.parts}
    <p><b>{ahead.parts} parts</b> in one run. This is the first, {ahead.part}.</p>
  {/if}
  {#each ahead.tasks as t (t.task)}
    <div>
      <p>
        <b>{t.task}</b>
        {#if t.destination}over {t.destination}{/if}
        {#if t.subject}<span class="soft">subject</span> {t.subject}{/if}
      </p>
      {#each t.files ?? [] as f (f)}<p class="mono pl-4 break-words">{f}</p>{/each}
      {#if t.recipients}
        <p class="pl-4 break-words">
          to {(t.to ?? []).slice(0, 20).join(', ')}{t.recipients > 20 ? ` and ${t.recipients - 20} more` : ''}
        </p>
      {/if}
      {#if t.seen}<p class="soft pl-4">Will be seen by {t.seen}.</p>{/if}
      {#each t.notes ?? [] as note (note)}<p class="soft pl-4">{note}</p>{/each}
      {#if t.wrong}<p class="text-error pl-4"><StateMark state="failed" word="" /> {t.wrong}</p>{/if}
    </div>
  {/each}
</div>
