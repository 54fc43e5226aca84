<script lang="ts">
  // Deliveries as rows: to whom, over what, what the other side said, and what can
  // be done about each.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type Delivery } from '../lib/api';
  import { changed } from '../lib/queries';
  import { me } from '../lib/me.svelte';
  import { now } from '../lib/now.svelte';
  import { p } from '../router';
  import DeliveryState from './DeliveryState.svelte';
  import Trouble from './Trouble.svelte';
  import ZonedTime from './ZonedTime.svelte';

  const {
    deliveries,
    zone,
    ofRun = false,
  }: { deliveries: Delivery[]; zone: string; ofRun?: boolean } = $props();
  const mayAct = $derived(me()?.role !== 'reader');
  const client = useQueryClient();
  const settle = createMutation(() => ({
    meta: { says: 'The delivery is settled.' },
    mutationFn: ({ delivery, as }: { delivery: number; as: 'sent' | 'failed' | 'resend' }) =>
      body(api.POST('/api/deliveries/{delivery}/settle', { params: { path: { delivery } }, body: { as } })),
    onSuccess: () => changed(client, 'deliveries'),
  }));
  const allow = createMutation(() => ({
    meta: { says: 'Your answer is kept; the delivery goes by it.' },
    mutationFn: ({ delivery, yes, until }: { delivery: number; yes: boolean; until?: string }) =>
      body(
        api.POST('/api/deliveries/{delivery}/allow', {
          params: { path: { delivery } },
          body: { yes, ...(until && { until }) },
        }),
      ),
    onSuccess: () => changed(client, 'deliveries'),
  }));
  const inDays = (n: number) => new Date(now.ms + n * 86_400_000).toISOString();
</script>

{#if settle.isError}<Trouble error={settle.error} />{/if}
{#if allow.isError}<Trouble error={allow.error} />{/if}
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="panel overflow-x-auto" tabindex="0" role="region" aria-label="Deliveries">
  <table class="grid-list">
    <thead>
      <tr
        ><th>State</th><th>To</th><th>What</th><th>Over</th><th>At</th><th>Tries</th><th
          >The other side said</th
        ></tr
      >
    </thead>
    <tbody>
      {#each deliveries as d (d.id)}
        <tr>
          <td><DeliveryState delivery={d} /></td>
          <td class="max-w-[14.5rem] break-words"
            >{d.went_to || d.address}{#if d.meant_for}<span class="soft">
                meant for {d.meant_for}</span
              >{/if}</td
          >
          <td
            >{#if d.run_id && !ofRun}<a
                class="underline"
                href={p('/runs/:run', { params: { run: d.run_id } })}>{d.subject}</a
              >{:else}{d.subject}{/if}</td
          >
          <td class="whitespace-nowrap">{d.destination}</td>
          <td class="whitespace-nowrap"
            >{#if d.settled_at}<ZonedTime
                at={d.settled_at}
                {zone}
                seconds
              />{:else if d.state === 'waiting' && d.tries > 0 && !d.kept_back}next
              <ZonedTime at={d.ready_at} {zone} seconds />{:else}<ZonedTime
                at={d.created_at}
                {zone}
                seconds
              />{/if}</td
          >
          <td>{d.tries}</td>
          <td class="min-w-[15rem]"
            ><div class="mono soft break-words">{d.answer}</div>
            {#if d.advice && d.state !== 'sent'}<div class="soft">{d.advice}</div>{/if}
            <div class="flex flex-wrap gap-1.5">
              {#if mayAct && d.run_id}
                {#if d.kept_back === 'yes'}
                  <button class="btn btn-primary" onclick={() => allow.mutate({ delivery: d.id, yes: true })}
                    >Let it go out</button
                  >
                  <button
                    class="btn"
                    title="All that the job sends to this address, until the job, one of its reports or the destination is saved"
                    onclick={() => allow.mutate({ delivery: d.id, yes: true, until: inDays(90) })}
                    >All it sends there, for 90 days</button
                  >
                  <button class="btn" onclick={() => allow.mutate({ delivery: d.id, yes: false })}>No</button>
                {/if}
                {#if d.state === 'unknown'}
                  <button class="btn" onclick={() => settle.mutate({ delivery: d.id, as: 'sent' })}
                    >It arrived</button
                  >
                  <button class="btn" onclick={() => settle.mutate({ delivery: d.id, as: 'failed' })}
                    >It did not</button
                  >
                {/if}
                {#if ['unknown', 'failed', 'bounced', 'declined'].includes(d.state)}
                  <button class="btn" onclick={() => settle.mutate({ delivery: d.id, as: 'resend' })}
                    >Send again</button
                  >
                {/if}
              {/if}
            </div>
          </td>
        </tr>
      {/each}
    </tbody>
  </table>
</div>
