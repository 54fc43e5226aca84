<script lang="ts">
  // Who receives: people with their wishes, groups, and the posts of the organisation.
  import { createQuery } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import PersonForm from '../components/people/PersonForm.svelte';
  import Groups from '../components/people/Groups.svelte';
  import Posts from '../components/people/Posts.svelte';
  import Receives from '../components/people/Receives.svelte';
  import WishesForm from '../components/people/WishesForm.svelte';
  import RecordActions from '../components/records/RecordActions.svelte';
  import SignIns from '../components/SignIns.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { isAdministrator, me } from '../lib/me.svelte';
  import { asks } from '../lib/queries';

  const people = createQuery(() => asks.people());
  const groups = createQuery(() => asks.groups());
  const posts = createQuery(() => asks.posts());
  const login = $derived(String(searchParams.get('who') ?? me()?.login ?? ''));
  const person = $derived(people.data?.find((one) => one.login === login));
  const mine = $derived(isAdministrator() || login === me()?.login);
  let doing = $state<'' | 'add' | 'change'>('');
  function look(at: string) {
    searchParams.set('who', at);
    doing = '';
  }
</script>

<svelte:head><title>People · Iron Bell</title></svelte:head>

<h1>People</h1>
{#if people.isError}<Trouble error={people.error} />{/if}
<div class="grid gap-3.5 lg:grid-cols-[20rem_1fr]">
  <section class="panel self-start px-3.5 py-3">
    <div class="flex items-baseline justify-between gap-2">
      <h2>Everybody</h2>
      {#if isAdministrator() && doing !== 'add'}<button class="btn" onclick={() => (doing = 'add')}
          >Add a person</button
        >{/if}
    </div>
    <ul>
      {#each people.data ?? [] as one (one.id)}
        <li>
          <button
            class="flex min-h-7 w-full cursor-pointer items-center justify-between gap-2 rounded px-1.5 text-left {one.login ===
            login
              ? 'bg-secondary text-secondary-content font-semibold'
              : 'hover:bg-base-300/60'}"
            aria-pressed={one.login === login}
            onclick={() => look(one.login)}
            >{one.name}{#if one.wishes?.paused_until}<span class="soft text-[13px]">away</span>{/if}</button
          >
        </li>
      {/each}
    </ul>
  </section>
  <div class="flex min-w-0 flex-col gap-3.5">
    {#if doing === 'add'}
      <section class="panel px-3.5 py-3">
        <h2>A new person</h2>
        <PersonForm onclose={() => (doing = '')} onsaved={look} />
      </section>
    {/if}
    {#if person}
      <section class="panel px-3.5 py-3">
        <div class="flex flex-wrap items-baseline gap-x-3">
          <h2>{person.name}</h2>
          <span class="soft">{person.login}</span>
          <span class="flex-1"></span>
          {#if isAdministrator() && doing !== 'change'}<button class="btn" onclick={() => (doing = 'change')}
              >Change</button
            >{/if}
        </div>
        {#if doing === 'change'}
          {#key person.login}<PersonForm {person} onclose={() => (doing = '')} onsaved={look} />{/key}
        {:else}
          <p class="soft">{person.mail || 'no mail address'}, {person.role}, {person.zone}</p>
        {/if}
        <RecordActions
          kind="person"
          name={person.login}
          may={isAdministrator()}
          onrenamed={look}
          oncopied={look}
          onremoved={() => look(me()?.login ?? '')}
        />
        {#if mine}
          <h3 class="soft mt-2 text-[13px] font-semibold">What they want for their mails</h3>
          <!-- The form begins anew with each person. -->
          {#key person.login}<WishesForm {person} people={people.data ?? []} />{/key}
        {/if}
      </section>
      {#key person.login}<Receives login={person.login} {mine} />{/key}
      {#if mine}{#key person.login}<SignIns login={person.login} />{/key}{/if}
    {/if}
    {#if groups.data}<Groups groups={groups.data} />{/if}
    {#if posts.data}<Posts posts={posts.data} people={people.data ?? []} />{/if}
  </div>
</div>
