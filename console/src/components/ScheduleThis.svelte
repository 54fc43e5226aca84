<script lang="ts">
  // Makes a job of what was looked at: same report, same values.
  import { createQuery } from '@tanstack/svelte-query';
  import { api, body, toBeNew, type Ahead, type Timing, type Values } from '../lib/api';
  import { asks } from '../lib/queries';
  import { navigate } from '../router';
  import AheadView from './AheadView.svelte';
  import RuleEditor from './RuleEditor.svelte';
  import Trouble from './Trouble.svelte';

  const { report, values, zone }: { report: string; values: Values; zone: string } = $props();
  const places = createQuery(() => asks.destinations());
  const mails = $derived((places.data ?? []).filter((d) => d.protocol === 'smtp'));
  let name = $state('');
  let timing = $state<Timing>({ rule: 'on weekdays at 06:15' });
  let format = $state<'pdf' | 'xlsx' | 'csv' | 'pptx' | 'html' | 'json'>('pdf');
  let inBody = $state(true);
  let destination = $state('');
  let to = $state('');
  let trouble = $state<unknown>(null);
  let busy = $state(false);
  const addresses = $derived(
    to
      .split(/[,;\n]/)
      .map((a) => a.trim())
      .filter(Boolean),
  );

  const definition = $derived({
    on: true,
    zone,
    values,
    triggers: [timing],
    tasks: [
      {
        name: 'report',
        kind: 'report' as const,
        report: { report, outputs: inBody ? [{ format }, { format: 'html-mail' as const }] : [{ format }] },
      },
      {
        name: 'mail',
        kind: 'deliver' as const,
        deliver: { destination: destination || mails[0]?.name || '', to: addresses },
      },
    ],
  });
  let ahead = $state<Ahead>();
  $effect(() => {
    void definition;
    ahead = undefined; // it was said of something else
  });

  /** Does something with the job as it stands in the form, once its name is found free. */
  async function withJob(then: (job: string) => Promise<void>) {
    trouble = null;
    busy = true;
    try {
      const job = name.trim();
      const there = await api.GET('/api/jobs/{job}', { params: { path: { job } } });
      if (there.response.ok) throw new Error(`There is a job ${job} already. Give this one another name.`);
      await then(job);
    } catch (error) {
      trouble = error;
    } finally {
      busy = false;
    }
  }
  const look = () =>
    withJob(async (job) => {
      ahead = await body(api.POST('/api/jobs/{job}/ahead', { params: { path: { job } }, body: definition }));
    });
  const save = (e: SubmitEvent) => {
    e.preventDefault();
    void withJob(async (job) => {
      await body(api.PUT('/api/jobs/{job}', { params: { path: { job } }, body: definition, ...toBeNew }));
      void navigate('/jobs/:job', { params: { job } });
    });
  };
</script>

<form class="grid gap-3" onsubmit={save}>
  <p class="soft">
    The values below go with it: what you looked at is what will run. Moments such as start of month move by
    themselves.
  </p>
  <label class="grid gap-1 text-[13px] font-semibold"
    >Name of the job<input
      class="input input-sm bg-base-100"
      required
      maxlength="200"
      bind:value={name}
    /></label
  >
  <RuleEditor bind:timing {zone} />
  <div class="flex flex-wrap items-end gap-3">
    <label class="grid gap-1 text-[13px] font-semibold"
      >As<select class="select select-sm bg-base-100 w-36" bind:value={format}
        ><option value="pdf">PDF</option><option value="xlsx">Spreadsheet</option><option value="csv"
          >CSV</option
        ><option value="pptx">Slides</option><option value="html">HTML page</option><option value="json"
          >JSON</option
        ></select
      ></label
    >
    <label class="flex min-h-7 items-center gap-1.5 text-[13px]"
      ><input type="checkbox" class="checkbox checkbox-xs" bind:checked={inBody} />Tables in the mail, too</label
    >
    <label class="grid gap-1 text-[13px] font-semibold"
      >Over<select
        class="select select-sm bg-base-100 w-52"
        value={destination || mails[0]?.name}
        onchange={(e) => (destination = e.currentTarget.value)}
        >{#each mails as d (d.name)}<option value={d.name}>{d.name}</option>{/each}</select
      ></label
    >
  </div>
  <label class="grid gap-1 text-[13px] font-semibold"
    >To<textarea
      class="textarea bg-base-100 min-h-16 w-full"
      required
      placeholder="addresses, with commas, semicolons or lines between"
      bind:value={to}></textarea></label
  >
  <p>
    {#if addresses.length}Whoever reads the mail of {addresses.length === 1
        ? addresses[0]
        : `these ${addresses.length} addresses`} will see the result.{:else}<span class="soft"
        >Nobody will see the result yet: name at least one address.</span
      >{/if}
  </p>
  {#if trouble}<Trouble error={trouble} />{/if}
  {#if ahead}<div class="panel px-3.5 py-2.5"><AheadView {ahead} /></div>{/if}
  <div class="flex gap-2">
    <button class="btn btn-primary" disabled={busy || !name.trim() || !addresses.length}
      >Switch the job on</button
    >
    <button
      class="btn"
      type="button"
      disabled={busy || !name.trim() || !addresses.length}
      onclick={() => void look()}>See first what it will do</button
    >
  </div>
</form>
