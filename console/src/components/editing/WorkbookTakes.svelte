<script lang="ts">
  // What the named tables and cells of a workbook take.
  import type { WorkbookPlan } from '../../lib/api';

  const { plan }: { plan: WorkbookPlan } = $props();
  const hidden = $derived(plan.file.sheets.filter((s) => s.hidden).map((s) => s.name));
  const counted = (n: number, what: string) => `${n.toLocaleString('en-GB')} ${what}${n === 1 ? '' : 's'}`;
</script>

<p class="soft text-[13px]">
  {plan.file.name}, {counted(plan.file.sheets.length, 'sheet')}, {counted(
    plan.file.formulas,
    'formula',
  )}{#if hidden.length}; hidden: {hidden.join(', ')}{/if}
</p>
{#if plan.takes.length}
  <div class="overflow-x-auto">
    <table class="table-xs mt-1 table w-full text-[13px]!">
      <thead class="text-base-content"><tr><th>Name</th><th>Stands at</th><th>Takes</th></tr></thead>
      <tbody>
        {#each plan.takes as t (t.name)}
          <tr>
            <td class="align-top font-semibold">{t.name}</td>
            <td class="align-top whitespace-nowrap">{t.at}</td>
            <td class="align-top"
              >{#if t.takes}{t.takes}{:else}<span class="soft">stays as it is</span>{/if}{#if t.notes}<span
                  class="soft block">{t.notes}</span
                >{/if}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{:else}
  <p class="text-[13px]">
    It has no named tables and no named cells, so that nothing of the report comes into it: name some in the
    office program, and send it again.
  </p>
{/if}
{#each plan.file.says ?? [] as said (said)}<p class="soft text-[12.5px]">{said}</p>{/each}
{#if plan.file.unreckoned?.length}
  <p class="soft text-[12.5px]">
    Values cannot stand in place of its formulas: {plan.file.unreckoned[0]}
  </p>
{/if}
