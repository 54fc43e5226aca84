<script lang="ts">
  // An alert: what, for whom, who was told, and what can be done about it.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type Alert } from '../lib/api';
  import { changed } from '../lib/queries';
  import { mayChange, myZone } from '../lib/me.svelte';
  import { linked } from '../lib/linked';
  import { p } from '../router';
  import StateMark from './StateMark.svelte';
  import Trouble from './Trouble.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const { alert, whole = false }: { alert: Alert; whole?: boolean } = $props();
  const client = useQueryClient();
  const act = createMutation(() => ({
    meta: {
      says: (_: unknown, end: unknown) =>
        end ? 'The alert is closed.' : 'The alert is yours; its owner sees that.',
    },
    mutationFn: (end: boolean) =>
      end
        ? body(api.POST('/api/alerts/{alert}/close', { params: { path: { alert: alert.id } } }))
        : body(api.POST('/api/alerts/{alert}/acknowledge', { params: { path: { alert: alert.id } } })),
    onSuccess: () => changed(client, 'alert'),
  }));
</script>

<article class="flex gap-x-3 gap-y-2 px-3 py-2.5 max-md:flex-wrap" data-alert={alert.id}>
  <StateMark state={alert.state} word="" />
  <div class="min-w-0 flex-1 max-md:basis-[80%]">
    <a
      class="link-plain"
      href={whole && alert.job_id
        ? p('/jobs/:job', { params: { job: String(alert.job_id) } })
        : p('/alerts/:alert', { params: { alert: String(alert.id) } })}>{alert.job}</a
    >
    <span class="chip ml-1.5">{alert.kind}</span>
    {#if alert.count > 1}<span class="soft ml-2 text-[13px]">{alert.count} times</span>{/if}
    <p class="break-words">{alert.happened}</p>
    {#if alert.for_whom}<p>For whom: {alert.for_whom}.</p>{/if}
    {#if whole && alert.tried}<p class="soft">So far: {alert.tried}</p>{/if}
    {#if alert.next}<p class="soft">Next: {alert.next}</p>{/if}
    {#if alert.advice}
      <p class="break-words">
        {#each linked(alert.advice) as piece, n (n)}
          {#if piece.to}<a class="underline" href={piece.to}>{piece.text}</a>{:else}{piece.text}{/if}
        {/each}
      </p>
    {/if}
    <p class="soft text-[13px]">
      Since <ZonedTime at={alert.opened_at} zone={myZone()} />.
      {#if alert.acknowledged_by}Acknowledged by {alert.acknowledged_by}.{:else if alert.told}{alert.told
          .charAt(0)
          .toUpperCase() + alert.told.slice(1)}.{/if}
      {#if alert.unreached}<b class="text-error">Nobody could be told yet.</b>{/if}
    </p>
    {#if act.isError}<Trouble error={act.error} />{/if}
  </div>
  <div class="flex flex-none flex-wrap items-start justify-end gap-1.5">
    {#if mayChange(alert.owner)}
      {#if alert.state === 'open'}
        <button class="btn btn-primary" disabled={act.isPending} onclick={() => act.mutate(false)}
          >Acknowledge</button
        >
      {:else if alert.state === 'acknowledged'}
        <button class="btn" disabled={act.isPending} onclick={() => act.mutate(true)}>Close</button>
      {/if}
    {/if}
    {#if alert.run_id && !whole}<a class="btn" href={p('/runs/:run', { params: { run: alert.run_id } })}
        >Open</a
      >{/if}
  </div>
</article>
