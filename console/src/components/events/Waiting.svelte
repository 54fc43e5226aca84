<script lang="ts">
  // What jobs wait for beside the time, and how far each has come.
  import { createQuery } from '@tanstack/svelte-query';
  import type { WaitingCondition } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { asks } from '../../lib/queries';
  import { p } from '../../router';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { job }: { job?: string } = $props();
  const list = createQuery(() => asks.waiting(job));
  const all = $derived(list.data ?? []);
  // Of a single one that nothing is known of the sentence says all.
  const told = (conditions: WaitingCondition[]) =>
    conditions.length > 1 ? conditions : conditions.filter((c) => c.came || c.looked || c.failing || c.usual);
</script>

{#if all.length || !job}
  <section class="panel px-3.5 py-3" aria-label="What jobs wait for">
    <div class="flex flex-wrap items-baseline gap-x-3">
      <h2>{job ? 'Waits for' : 'What jobs wait for'}</h2>
      {#if !job}<span class="soft">Beside the time: what each still needs, and what came.</span>{/if}
    </div>
    {#if list.isError}<Trouble error={list.error} />{/if}
    {#if all.length}
      <ul class="divide-base-300 divide-y">
        {#each all as w, i (i)}
          <li class="py-1.5">
            {#if !job}<a class="font-semibold" href={p('/jobs/:job', { params: { job: w.job } })}>{w.job}</a>
            {/if}
            <p class="break-words">{w.sentence}</p>
            <ul class="soft text-[13px]">
              {#each told(w.conditions ?? []) as c, k (k)}
                <li class="break-words">
                  {#if c.failing}<span class="text-error">Cannot be seen</span>
                    {c.reading}: {c.failing}
                  {:else if c.came}<span class="text-success">Came</span>
                    <ZonedTime at={c.came} zone={myZone()} />: {c.what}
                  {:else if c.looked}<span>Looked for</span>
                    {c.reading} at <ZonedTime at={c.looked} zone={myZone()} />{#if c.next}, again at <ZonedTime
                        at={c.next}
                        zone={myZone()}
                      />{/if}{#if c.note}; {c.note}{/if}
                  {:else}Not yet: {c.reading}{/if}{#if c.usual && !c.came};
                    {#if c.missed}<span class="text-warning"
                        ><span aria-hidden="true">▲</span> Late:
                      </span>{/if}
                    usually there by <ZonedTime at={c.usual} zone={myZone()} />{/if}{#if c.last && !c.came};
                    last came on <ZonedTime at={c.last} zone={myZone()} />{/if}
                </li>
              {/each}
            </ul>
          </li>
        {/each}
      </ul>
    {:else if list.isSuccess}
      <p class="soft">
        No job waits for anything but the time. In a job's editor, “Add a start by an event, a file or a job”
        makes one that does.
      </p>
    {/if}
  </section>
{/if}
