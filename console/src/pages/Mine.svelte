<script lang="ts">
  // What concerns whoever looks: what waits for their word, what they receive, and what they own.
  import { createQuery } from '@tanstack/svelte-query';
  import AlertCard from '../components/AlertCard.svelte';
  import OpenJobs from '../components/mine/OpenJobs.svelte';
  import OwnSchedules from '../components/mine/OwnSchedules.svelte';
  import Owned from '../components/mine/Owned.svelte';
  import WaitingMail from '../components/mine/WaitingMail.svelte';
  import Receives from '../components/people/Receives.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { me, myZone } from '../lib/me.svelte';
  import { asks } from '../lib/queries';
  import { p } from '../router';

  const mine = createQuery(() => asks.mine());
  const people = createQuery(() => asks.people());
  const login = $derived(me()?.login ?? '');
  const away = $derived(people.data?.find((one) => one.login === login)?.wishes?.paused_until);
  const waits = $derived(
    (mine.data?.alerts.length ?? 0) + (mine.data?.unknown.length ?? 0) + (mine.data?.consents.length ?? 0),
  );
</script>

<svelte:head><title>Mine · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Mine</h1>
  <span class="soft">What waits for you, what you receive, and what you own.</span>
</div>
{#if mine.isError}<Trouble error={mine.error} />{/if}
{#if mine.data}
  {@const m = mine.data}
  <section class="panel py-1" aria-label="What waits for you">
    <h2 class="px-3.5 pt-2">What waits for you</h2>
    {#each m.alerts as alert (alert.id)}<AlertCard {alert} />{/each}
    <WaitingMail
      all={m.unknown}
      says="Nobody knows whether this mail arrived: say what became of it, or send it again."
    />
    <WaitingMail
      all={m.consents}
      says="This mail waits for the yes of a second person, which you may give."
    />
    {#if waits === 0}<p class="soft px-3.5 pb-2">
        Nothing. Alerts of your jobs and what waits for your yes show here.
      </p>{/if}
  </section>
  <OpenJobs open={m.open} />
  <OwnSchedules schedules={m.schedules} reports={m.to_schedule} />
  <p class="soft">
    {#if away}You get no mail until <ZonedTime at={away} zone={myZone()} />.{/if}
    <a class="underline" href={p('/people')}
      >{away ? 'Change it' : 'Pause your mails, or say when and how they reach you'}</a
    >
  </p>
  {#if login}<Receives {login} mine />{/if}
  <Owned jobs={m.jobs} reports={m.reports} />
{/if}
