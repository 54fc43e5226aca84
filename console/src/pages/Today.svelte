<script lang="ts">
  import { createQuery } from '@tanstack/svelte-query';
  import AlertCard from '../components/AlertCard.svelte';
  import StateMark from '../components/StateMark.svelte';
  import Tape from '../components/Tape.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { asks } from '../lib/queries';
  import { myZone } from '../lib/me.svelte';
  import { now } from '../lib/now.svelte';
  import { between, clock, day as dayWord, distance, length, longDay, zoneWord } from '../lib/time';
  import { p } from '../router';

  const zone = $derived(myZone());
  const today = createQuery(() => asks.day(zone));
  const day = $derived(today.data);
  // What holds for the installation as a whole; how many nodes live needs nobody.
  const state = createQuery(() => asks.state());
  const needed = $derived((state.data?.lines ?? []).filter((l) => l.what !== 'nodes'));

  function share(started: string | undefined, usual: number | undefined): number {
    return started && usual ? Math.min(98, (between(started, now.ms) / usual) * 100) : 5;
  }
</script>

<svelte:head><title>Today · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-x-3.5">
  <h1>{longDay(now.ms, zone)}</h1>
  <span class="soft">{zoneWord(zone, now.ms)}</span>
  <span class="flex-1"></span>
  <span class="text-primary mono font-semibold" aria-label="Time now">{clock(now.ms, zone, true)}</span>
</div>

{#if today.isError}<Trouble error={today.error} />{/if}
{#if day}
  <Tape {day} />
  <div class="grid grid-cols-[1.550fr_1fr] gap-[18px] max-lg:grid-cols-1">
    <div class="flex min-w-0 flex-col gap-4">
      <section>
        <h2>Needs attention</h2>
        <div class="panel divide-base-300 divide-y">
          {#each needed as l (l.what + l.text)}
            <p class="flex flex-wrap items-baseline gap-x-3 px-3 py-2.5">
              <StateMark state={l.needs ? 'failed' : 'waiting'} word={l.what} />
              <span
                >{l.text}
                {#if l.names?.length}<b>{l.names.join(', ')}.</b>{/if}</span
              >
              {#if l.advice}<span class="soft">{l.advice}</span>{/if}
            </p>
          {/each}
          {#each day.attention as alert (alert.id)}
            <AlertCard {alert} />
          {:else}
            {#if needed.length === 0}<p class="px-3 py-2.5">
                <StateMark state="done" word="Nothing needs attention" />
              </p>{/if}
          {/each}
        </div>
      </section>
      <section>
        <h2>Running</h2>
        <div class="panel divide-base-300 divide-y">
          {#each day.running as r (r.id)}
            <div class="px-3 py-[9px]">
              <div class="flex flex-wrap items-baseline gap-3.5">
                <StateMark state={r.state} word={r.job} />
                <span class="soft">
                  {#if r.state === 'delivering'}{r.reason}{:else if r.started_at}started {clock(
                      r.started_at,
                      zone,
                      true,
                    )}, for {length(between(r.started_at, now.ms))}{#if r.usual_seconds}; usually {length(
                        r.usual_seconds,
                      )}{/if}{/if}
                </span>
                <span class="flex-1"></span>
                <a class="btn" href={p('/runs/:run', { params: { run: r.id } })}>Open</a>
              </div>
              {#if r.state === 'running'}
                <div class="bg-base-300 mt-2 h-1.5 rounded" aria-hidden="true">
                  <div
                    class="bg-info h-1.5 rounded"
                    style:width="{share(r.started_at, r.usual_seconds)}%"
                  ></div>
                </div>
              {/if}
            </div>
          {:else}
            <p class="soft px-3 py-2.5">Nothing runs at this moment.</p>
          {/each}
        </div>
      </section>
    </div>
    <section class="min-w-0">
      <h2>Next</h2>
      <div class="panel">
        <table class="grid-list">
          <tbody>
            {#each day.next as n, i (n.job_id + n.at)}
              {@const other = dayWord(n.at, zone) !== dayWord(now.ms, zone)}
              <tr class={i === 0 ? '[&>td]:!border-t-0' : ''}>
                <td class="mono whitespace-nowrap">{clock(n.at, zone)}</td>
                <td>
                  <a class="link-plain" href={p('/jobs/:job', { params: { job: String(n.job_id) } })}
                    >{n.job}</a
                  >
                  <div class="soft text-[12.5px]">{n.reading}</div>
                </td>
                <td class="soft !text-right whitespace-nowrap"
                  >{other ? dayWord(n.at, zone) : distance(n.at, now.ms)}</td
                >
              </tr>
            {:else}
              <tr
                ><td class="soft"
                  >Nothing is to ring in the next seven days. Switch a job on, or add a trigger to one.</td
                ></tr
              >
            {/each}
          </tbody>
        </table>
      </div>
    </section>
  </div>
{/if}
