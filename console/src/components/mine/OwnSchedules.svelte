<script lang="ts">
  // Reports that whoever looks has sent to themselves: made, changed, paused and ended here.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type OpenReport, type OwnScheduleLine } from '../../lib/api';
  import { changed, changedAll } from '../../lib/queries';
  import { p } from '../../router';
  import StateMark from '../StateMark.svelte';
  import Trouble from '../Trouble.svelte';
  import ZonedTime from '../ZonedTime.svelte';
  import OwnForm from './OwnForm.svelte';

  const { schedules, reports }: { schedules: OwnScheduleLine[]; reports: OpenReport[] } = $props();
  const client = useQueryClient();
  /** Which is being changed, by its number; 0 is a new one. */
  let edited = $state<number>();
  const turn = createMutation(() => ({
    meta: {
      says: (_: unknown, asked: unknown) =>
        (asked as OwnScheduleLine).on ? 'It is paused.' : 'It comes again.',
    },
    mutationFn: (s: OwnScheduleLine) =>
      body(
        api.POST('/api/jobs/{job}/switch', { params: { path: { job: String(s.id) } }, body: { on: !s.on } }),
      ),
    onSuccess: () => changed(client, 'job'),
  }));
  const end = createMutation(() => ({
    meta: { says: 'It is removed. An administrator can bring it back for 30 days.' },
    mutationFn: (s: OwnScheduleLine) =>
      body(api.POST('/api/records/remove', { body: { records: [{ kind: 'job', name: s.name }] } })),
    onSuccess: () => changedAll(client),
  }));
</script>

<section class="panel px-3.5 py-3" aria-label="Your own schedules">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Your own schedules</h2>
    <span class="soft">Reports that you have sent to yourself.</span>
    <span class="flex-1"></span>
    {#if reports.length && edited !== 0}<button class="btn" onclick={() => (edited = 0)}
        >Schedule a report</button
      >{/if}
  </div>
  {#if edited === 0}<OwnForm {reports} onclose={() => (edited = undefined)} />{/if}
  {#each [turn, end] as q, i (i)}{#if q.isError}<Trouble error={q.error} />{/if}{/each}
  <ul>
    {#each schedules as s (s.id)}
      <li class="border-base-300 border-b py-1.5 last:border-0">
        {#if edited === s.id}
          <OwnForm {reports} schedule={s} onclose={() => (edited = undefined)} />
        {:else}
          <div class="flex flex-wrap items-baseline gap-x-3 gap-y-1">
            <a class="font-semibold" href={p('/jobs/:job', { params: { job: String(s.id) } })}>{s.report}</a>
            <span class="min-w-0 flex-1"
              >{s.readings.join('; ')}{#if s.next_due}, next on <ZonedTime
                  at={s.next_due}
                  zone={s.zone}
                />{:else if !s.on}, paused{/if}
              <span class="soft">as {s.form}</span></span
            >
            {#if s.last}<a href={p('/runs/:run', { params: { run: s.last.id } })} title={s.last.reason}
                ><StateMark state={s.last.state} /></a
              >{/if}
            <button class="btn" aria-label="Change {s.name}" onclick={() => (edited = s.id)}>Change</button>
            <button
              class="btn"
              aria-label="{s.on ? 'Pause' : 'Go on with'} {s.name}"
              disabled={turn.isPending}
              onclick={() => turn.mutate(s)}>{s.on ? 'Pause' : 'Go on'}</button
            >
            <button
              class="btn"
              aria-label="Remove {s.name}"
              disabled={end.isPending}
              onclick={() => end.mutate(s)}>Remove</button
            >
          </div>
        {/if}
      </li>
    {:else}<li class="soft">
        {reports.length
          ? 'None yet.'
          : 'No report is open to own schedules of yours. Its owner opens it to people, groups or posts in its sheet.'}
      </li>{/each}
  </ul>
</section>
