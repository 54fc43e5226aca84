<script lang="ts">
  // Jobs whose mails are open to whoever looks: joined by one press, left by another.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type OpenJob } from '../../lib/api';
  import { changed } from '../../lib/queries';
  import { p } from '../../router';
  import Trouble from '../Trouble.svelte';

  const { open }: { open: OpenJob[] } = $props();
  const client = useQueryClient();
  const turn = createMutation(() => ({
    meta: {
      says: (_: unknown, asked: unknown) => {
        const o = asked as OpenJob;
        return o.joined ? `You no longer get ${o.job}.` : `You get ${o.job} from its next run on.`;
      },
    },
    mutationFn: (o: OpenJob) => {
      const params = { path: { job: String(o.job_id) } };
      return o.joined
        ? body(api.POST('/api/jobs/{job}/unjoin', { params }))
        : body(api.POST('/api/jobs/{job}/join', { params }));
    },
    onSuccess: () => changed(client, 'person'),
  }));
</script>

<section class="panel px-3.5 py-3" aria-label="Open to you">
  <div class="flex flex-wrap items-baseline gap-3">
    <h2>Open to you</h2>
    <span class="soft">Reports that come by mail, which you may join and leave again.</span>
  </div>
  {#if turn.isError}<Trouble error={turn.error} />{/if}
  <ul>
    {#each open as o (o.job_id)}
      <li class="border-base-300 flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b py-1.5 last:border-0">
        <a class="font-semibold" href={p('/jobs/:job', { params: { job: String(o.job_id) } })}>{o.job}</a>
        <span class="min-w-0 flex-1">{o.says} <span class="soft">Of {o.owner}.</span></span>
        {#if o.joined}<span class="soft">you joined</span>{/if}
        <button
          class="btn"
          aria-label="{o.joined ? 'Leave' : 'Join'} {o.job}"
          disabled={turn.isPending}
          onclick={() => turn.mutate(o)}>{o.joined ? 'Leave' : 'Join'}</button
        >
      </li>
    {:else}<li class="soft">
        No job is open to you. Its owner opens it to people, groups or posts, under Open to joining in the
        job's sheet.
      </li>{/each}
  </ul>
</section>
