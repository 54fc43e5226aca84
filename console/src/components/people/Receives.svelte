<script lang="ts">
  // What was sent to a person lately, and the lists that they left.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { isAdministrator, me, myZone } from '../../lib/me.svelte';
  import { asks, changed } from '../../lib/queries';
  import { p } from '../../router';
  import StateMark from '../StateMark.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  /** mine: whoever looks may speak for this person. */
  const { login, mine }: { login: string; mine: boolean } = $props();
  const client = useQueryClient();
  const own = $derived(login === me()?.login);
  const gets = createQuery(() => asks.receives(login));
  const list = createMutation(() => ({
    meta: {
      says: (_: unknown, asked: unknown) =>
        (asked as { leave: boolean }).leave ? 'They receive it no more.' : 'They receive it again.',
    },
    mutationFn: ({ job, leave }: { job?: string; leave: boolean }) => {
      const params = { path: { login }, query: { job } };
      return leave
        ? body(api.POST('/api/people/{login}/leave', { params }))
        : body(api.POST('/api/people/{login}/return', { params }));
    },
    onSuccess: () => changed(client, 'person'),
  }));
</script>

<section class="panel px-3.5 py-3">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>What {own ? 'you' : 'they'} receive</h2>
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
      <thead><tr><th>Job</th><th class="!text-right">Sent</th><th>Last</th><th></th><th></th></tr></thead>
      <tbody>
        {#each gets.data as g (g.job_id)}
          <tr
            ><td
              ><a class="underline" href={p('/jobs/:job', { params: { job: String(g.job_id) } })}>{g.job}</a
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
  {:else if gets.data}<p class="soft">Nothing was sent to {own ? 'you' : 'them'}.</p>{/if}
</section>
