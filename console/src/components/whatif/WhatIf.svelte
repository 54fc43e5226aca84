<script lang="ts">
  // What a change would do to the rings to come, before it is saved: in a sentence, by job, as the
  // load that it makes, and on the tapes of the days that change.
  import { createQuery } from '@tanstack/svelte-query';
  import type { RingChange, WhatIfRequest } from '../../lib/api';
  import { myZone } from '../../lib/me.svelte';
  import { asks } from '../../lib/queries';
  import { fullDay, zoneWord } from '../../lib/time';
  import { changedRings, counted } from '../../lib/whatif';
  import Trouble from '../Trouble.svelte';
  import WhatIfLoad from './WhatIfLoad.svelte';
  import WhatIfRing from './WhatIfRing.svelte';
  import WhatIfTape from './WhatIfTape.svelte';

  /** pause: of a change that is being written, how long is waited for more of it, in ms. */
  const { asked, pause = 0 }: { asked: WhatIfRequest; pause?: number } = $props();
  const text = $derived(JSON.stringify({ ...asked, zone: myZone(), limit: 2000 }));
  let settled = $state('');
  $effect(() => {
    const next = text;
    const timer = setTimeout(() => (settled = next), settled ? pause : 0);
    return () => clearTimeout(timer);
  });
  const query = createQuery(() => asks.whatIf(settled));
  const w = $derived(query.data);
  const few = 8;
  let all = $state(false);
  /** It rings when it did, and only its run begins at another time. */
  const stays = (r: RingChange) =>
    r.was && r.will && !r.was.passed && !r.will.passed && r.was.at === r.will.at;
</script>

<section
  class="panel border-warning @container px-3.5 py-2.5"
  aria-label="What would change"
  aria-live="polite"
>
  {#if query.isError}<Trouble error={query.error} />
  {:else if !w}<p class="soft">Looking ahead …</p>
  {:else}
    <div class={query.isFetching ? 'opacity-60' : ''}>
      <p>
        <b>{w.says}</b>
        <span class="soft">Until {fullDay(w.to, w.zone)}, in {zoneWord(w.zone)}. Nothing is saved yet.</span>
      </p>
      {#each w.notes as n (n)}<p class="text-warning">{n}</p>{/each}
      {#if w.jobs.length}
        <ul class="mt-1.5">
          {#each all ? w.jobs : w.jobs.slice(0, few) as j (j.job)}
            <li
              class="border-base-300 grid gap-x-4 border-b py-1 last:border-0 @3xl:grid-cols-[14rem_11rem_1fr]"
            >
              <b class="min-w-0 break-words">{j.job}</b>
              <span>{counted(j.counts)}</span>
              <span class="min-w-0 text-[13px]"
                >{changedRings(j.counts) > 1 ? 'The first: ' : ''}{#if !stays(j.first)}<WhatIfRing
                    ring={j.first.was}
                    what={j.first.what}
                    zone={w.zone}
                  /> →
                {/if}<WhatIfRing
                  ring={j.first.will}
                  what={j.first.what}
                  late={j.first.late}
                  zone={w.zone}
                /></span
              >
            </li>
          {/each}
        </ul>
        {#if w.jobs.length > few && !all}<button class="edit-link" type="button" onclick={() => (all = true)}
            >{w.jobs.length - few} more jobs</button
          >{/if}
        <WhatIfTape {w} />
      {/if}
      {#if w.jobs.length || w.clashes.length}<WhatIfLoad {w} />{/if}
    </div>
  {/if}
</section>
