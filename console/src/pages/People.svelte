<script lang="ts">
  // Who can receive: people with what they get, groups, and posts with all that
  // stand under them. Everybody says here what they wish for themselves.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { searchParams } from 'sv-router';
  import GroupForm from '../components/GroupForm.svelte';
  import PostForm from '../components/PostForm.svelte';
  import SignIns from '../components/SignIns.svelte';
  import StateMark from '../components/StateMark.svelte';
  import Trouble from '../components/Trouble.svelte';
  import ZonedTime from '../components/ZonedTime.svelte';
  import { api, beganFrom, body } from '../lib/api';
  import { asks, changed } from '../lib/queries';
  import { isAdministrator, me, myZone } from '../lib/me.svelte';
  import { searched } from '../lib/param';
  import { fromField, toField, zoneWord } from '../lib/time';
  import { p } from '../router';

  const client = useQueryClient();
  const people = createQuery(() => asks.people());
  const groups = createQuery(() => asks.groups());
  const posts = createQuery(() => asks.posts());
  const login = $derived(String(searchParams.get('who') ?? me()?.login ?? ''));
  const person = $derived(people.data?.find((one) => one.login === login));
  const mine = $derived(isAdministrator() || login === me()?.login);
  const gets = createQuery(() => asks.receives(login));
  /** Which group or post is being changed; the empty name is a new one. */
  const edited = $derived({
    group: searched('group'),
    post: searched('post'),
  });
  function edit(kind?: 'group' | 'post', name = '') {
    searchParams.delete('group', undefined, { replace: true });
    searchParams.delete('post', undefined, { replace: true });
    if (kind) searchParams.set(kind, name, { replace: true });
  }
  const save = createMutation(() => ({
    mutationFn: (form: FormData) => {
      const text = (name: string) => String(form.get(name) ?? '').trim() || undefined;
      const until = text('until');
      return body(
        api.PUT('/api/people/{login}/wishes', {
          params: { path: { login } },
          ...beganFrom(person?.revision),
          body: {
            language: text('language'),
            quiet_from: text('quiet_from'),
            quiet_to: text('quiet_to'),
            digest_at: text('digest_at'),
            stand_in: text('stand_in'),
            paused_until: until ? fromField(until, person?.zone ?? myZone()).toISOString() : undefined,
            mail: text('mail'),
            zone: text('zone'),
          },
        }),
      );
    },
    onSuccess: () => changed(client, 'person'),
  }));
  const list = createMutation(() => ({
    mutationFn: ({ job, leave }: { job?: string; leave: boolean }) => {
      const params = { path: { login }, query: { job } };
      return leave
        ? body(api.POST('/api/people/{login}/leave', { params }))
        : body(api.POST('/api/people/{login}/return', { params }));
    },
    onSuccess: () => changed(client, 'person'),
  }));
</script>

{#snippet postForm(post?: { name: string; under?: string; holders: string[] })}
  <PostForm {post} posts={posts.data ?? []} people={people.data ?? []} onclose={() => edit()} />
{/snippet}

<datalist id="zones"
  >{#each Intl.supportedValuesOf('timeZone') as name (name)}<option value={name}></option>{/each}</datalist
>
<svelte:head><title>People · Iron Bell</title></svelte:head>

<h1>People</h1>
{#if people.isError}<Trouble error={people.error} />{/if}
<div class="grid gap-3.5 lg:grid-cols-[20rem_1fr]">
  <section class="panel self-start px-3.5 py-3">
    <h2>Everybody</h2>
    <ul>
      {#each people.data ?? [] as one (one.id)}
        <li>
          <button
            class="flex min-h-7 w-full cursor-pointer items-baseline justify-between gap-2 rounded px-1.5 text-left {one.login ===
            login
              ? 'bg-secondary text-secondary-content font-semibold'
              : 'hover:bg-base-300/60'}"
            aria-pressed={one.login === login}
            onclick={() => searchParams.set('who', one.login)}
            >{one.name}{#if one.wishes?.paused_until}<span class="soft text-[13px]">away</span>{/if}</button
          >
        </li>
      {/each}
    </ul>
  </section>
  <div class="flex min-w-0 flex-col gap-3.5">
    {#if person}
      <section class="panel px-3.5 py-3">
        <h2>{person.name}</h2>
        <p class="soft">{person.mail || 'no mail address'}, {person.role}, {person.zone}</p>
        {#if mine}
          <!-- The form begins anew with each person. -->
          {#key person.login}
            <form
              class="mt-2 grid max-w-3xl gap-x-5 gap-y-2 sm:grid-cols-2"
              onsubmit={(e) => {
                e.preventDefault();
                save.mutate(new FormData(e.currentTarget));
              }}
            >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >Mail address <input
                  class="input input-sm bg-base-100 w-56"
                  type="email"
                  name="mail"
                  value={person.mail}
                /></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >Time zone <input
                  class="input input-sm bg-base-100 w-56"
                  name="zone"
                  value={person.zone}
                  list="zones"
                /></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >No reports until <input
                  class="input input-sm bg-base-100 w-56"
                  type="datetime-local"
                  name="until"
                  value={person.wishes?.paused_until ? toField(person.wishes.paused_until, person.zone) : ''}
                /></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >In their place <select
                  class="select select-sm bg-base-100 w-56"
                  name="stand_in"
                  value={person.wishes?.stand_in ?? ''}
                >
                  <option value="">nobody</option>
                  {#each people.data ?? [] as one (one.id)}{#if one.login !== login}<option value={one.login}
                        >{one.name}</option
                      >{/if}{/each}
                </select></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >Quiet from <input
                  class="input input-sm bg-base-100 w-28"
                  name="quiet_from"
                  placeholder="22:00"
                  value={person.wishes?.quiet_from ?? ''}
                /></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >to <input
                  class="input input-sm bg-base-100 w-28"
                  name="quiet_to"
                  placeholder="06:30"
                  value={person.wishes?.quiet_to ?? ''}
                /></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >Digest of what needs them at <input
                  class="input input-sm bg-base-100 w-28"
                  name="digest_at"
                  placeholder="07:00"
                  value={person.wishes?.digest_at ?? ''}
                /></label
              >
              <label class="flex min-h-7 items-center justify-between gap-2 whitespace-nowrap"
                >Dates written as in <input
                  class="input input-sm bg-base-100 w-28"
                  name="language"
                  placeholder="en-GB"
                  value={person.wishes?.language ?? ''}
                /></label
              >
              <p class="soft sm:col-span-2">
                All times are of {zoneWord(person.zone)}. Quiet hours hold back alerts that are not urgent.
                Urgent ones come at any time.
              </p>
              <div><button class="btn btn-primary" disabled={save.isPending}>Save</button></div>
              {#if save.isSuccess}<p role="status">Saved.</p>{/if}
            </form>
          {/key}
          {#if save.isError}<Trouble error={save.error} />{/if}
        {/if}
      </section>
      <section class="panel px-3.5 py-3">
        <div class="flex flex-wrap items-baseline gap-3">
          <h2>What they receive</h2>
          <span class="soft">in the last 30 days</span>
          <span class="flex-1"></span>
          {#if isAdministrator() && gets.data?.some((g) => !g.left)}<button
              class="btn"
              onclick={() => list.mutate({ leave: true })}>Take them off all of these</button
            >{/if}
        </div>
        {#if list.isError}<Trouble error={list.error} />{/if}
        {#if gets.data?.length}
          <table class="grid-list">
            <thead
              ><tr><th>Job</th><th class="!text-right">Sent</th><th>Last</th><th></th><th></th></tr></thead
            >
            <tbody>
              {#each gets.data as g (g.job_id)}
                <tr
                  ><td
                    ><a class="underline" href={p('/jobs/:job', { params: { job: String(g.job_id) } })}
                      >{g.job}</a
                    ></td
                  ><td class="!text-right">{g.sent}</td><td
                    >{#if g.last_at}<ZonedTime at={g.last_at} zone={myZone()} />{/if}</td
                  ><td><StateMark state={g.last} /></td><td class="!text-right">
                    {#if g.left}<span class="soft">left its list</span>
                      {#if mine}<button class="btn" onclick={() => list.mutate({ job: g.job, leave: false })}
                          >Put back</button
                        >{/if}
                    {:else if isAdministrator() || (mine && g.may_leave)}<button
                        class="btn"
                        onclick={() => list.mutate({ job: g.job, leave: true })}>Take off its list</button
                      >{/if}
                  </td></tr
                >
              {/each}
            </tbody>
          </table>
        {:else if gets.data}<p class="soft">Nothing was sent to them.</p>{/if}
      </section>
      {#if mine}{#key person.login}<SignIns login={person.login} />{/key}{/if}
    {/if}
    <section class="panel px-3.5 py-3">
      <div class="flex items-baseline gap-3">
        <h2>Groups</h2>
        <span class="flex-1"></span>
        {#if isAdministrator()}<button class="btn" onclick={() => edit('group', '')}>Add a group</button>{/if}
      </div>
      {#if edited.group === ''}<GroupForm onclose={() => edit()} />{/if}
      {#each groups.data ?? [] as g (g.id)}
        {#if edited.group === g.name}
          <GroupForm group={g} onclose={() => edit()} />
        {:else}
          <div class="flex items-baseline gap-3 py-1">
            <p class="min-w-0 flex-1 break-words">
              <b>{g.name}</b> <span class="soft">group:{g.name}</span><br />{g.members.join(', ')}
            </p>
            {#if isAdministrator()}<button
                class="btn"
                aria-label="Change the group {g.name}"
                onclick={() => edit('group', g.name)}>Change</button
              >{/if}
          </div>
        {/if}
      {:else}{#if groups.data}<p class="soft">
            There is no group. A group names several recipients once, for all jobs.
          </p>{/if}{/each}
    </section>
    <section class="panel px-3.5 py-3">
      <div class="flex items-baseline gap-3">
        <h2>Posts</h2>
        <span class="flex-1"></span>
        {#if isAdministrator()}<button class="btn" onclick={() => edit('post', '')}>Add a post</button>{/if}
      </div>
      {#if edited.post === ''}{@render postForm()}{/if}
      {#each posts.data ?? [] as one (one.id)}
        {#if edited.post === one.name}
          {@render postForm(one)}
        {:else}
          <div class="flex items-baseline gap-3 py-1">
            <p class="min-w-0 flex-1 break-words">
              <b>{one.name}</b>{#if one.under}<span class="soft ml-1">under {one.under}</span>{/if}: {one.holders
                .map((held) => people.data?.find((who) => who.login === held)?.name ?? held)
                .join(', ') || 'held by nobody'}
            </p>
            {#if isAdministrator()}<button
                class="btn"
                aria-label="Change the post {one.name}"
                onclick={() => edit('post', one.name)}>Change</button
              >{/if}
          </div>
        {/if}
      {:else}{#if posts.data}<p class="soft">
            There is no post. A post is a position in the organisation; who holds it changes, jobs need not.
          </p>{/if}{/each}
    </section>
  </div>
</div>
