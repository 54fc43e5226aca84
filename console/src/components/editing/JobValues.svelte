<script lang="ts">
  // The values of a job, or of one of its triggers, each with what it comes to at the next ring.
  import { createQuery } from '@tanstack/svelte-query';
  import type { JobRequest, Values } from '../../lib/api';
  import type { Written } from '../../lib/editing/hint';
  import { toAsk } from '../../lib/editing/job';
  import { asks } from '../../lib/queries';
  import Trouble from '../Trouble.svelte';
  import ValueForm from '../ValueForm.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  let { record = $bindable(), job, trigger }: { record: Written; job: string; trigger?: number } = $props();

  // Only what asks for values is told, so that what is still missing elsewhere is no hindrance.
  const asking = $derived.by(() => {
    const all = toAsk(record);
    const tasks = ((all.tasks ?? []) as Written[]).filter((t) =>
      t.report
        ? Boolean((t.report as Written).report)
        : t.query
          ? Boolean((t.query as Written).source)
          : false,
    );
    return JSON.stringify({
      on: false,
      zone: all.zone,
      calendars: all.calendars,
      // What is written here goes before all else, so it is told beside the rest.
      triggers: (record.triggers as Written[] | undefined)?.map((t) => (t.rule ? { rule: t.rule } : {})),
      ...(trigger === undefined ? {} : { values: all.values }),
      tasks: tasks.map((t) => ({
        name: t.name,
        kind: t.kind,
        ...(t.report
          ? {
              report: {
                report: (t.report as Written).report,
                outputs: [{ format: 'pdf' }],
                identity: (t.report as Written).identity,
              },
            }
          : { query: t.query }),
      })),
    });
  });
  let asked = $state('');
  $effect(() => {
    const text = asking;
    const timer = setTimeout(() => (asked = text), asked ? 300 : 0);
    return () => clearTimeout(timer);
  });
  const triggers = $derived(record.triggers as Written[]);
  const values = $derived(
    (trigger === undefined ? record.values : triggers[trigger]?.values) as Values | undefined,
  );
  const found = createQuery(() => ({
    ...asks.values(job || 'new job', asked ? (JSON.parse(asked) as JobRequest) : undefined, trigger, values),
    enabled: asked !== '',
  }));
  function set(to: Values) {
    const kept = Object.keys(to).length ? to : undefined;
    if (trigger === undefined) record.values = kept;
    else if (triggers[trigger]) triggers[trigger].values = kept;
  }
</script>

{#if found.isError}<Trouble error={found.error} />{/if}
{#if found.data}
  {#if found.data.values.length}
    <p class="soft pb-1 text-[12.5px]">
      What each comes to, for <ZonedTime at={found.data.nominal} zone={found.data.zone} />.
    </p>
  {/if}
  <div class="max-w-3xl">
    <ValueForm
      offers={found.data.values}
      bind:values={() => values ?? {}, set}
      at={trigger === undefined ? 'values' : `triggers[${trigger}].values`}
      nothing="Nothing that it does asks for a value."
    />
  </div>
{/if}
