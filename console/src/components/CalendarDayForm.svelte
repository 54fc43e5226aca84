<script lang="ts">
  // A day, or the days of a rule, that a calendar closes or opens besides.
  import type { CalendarEntry } from '../lib/api';

  const { add }: { add: (key: 'closed' | 'open', entry: CalendarEntry) => void } = $props();
  let day = $state<CalendarEntry>({ label: '', date: '', rule: '' });
</script>

<form
  class="panel flex flex-wrap items-end gap-2 px-3.5 py-2.5 text-[13px]"
  onsubmit={(e) => {
    e.preventDefault();
    const key = (e.submitter as HTMLButtonElement | null)?.value === 'open' ? 'open' : 'closed';
    const entry: CalendarEntry = {
      ...(day.label && { label: day.label }),
      ...(day.date && { date: day.date }),
      ...(day.rule && { rule: day.rule }),
    };
    add(key, entry);
    day = { label: '', date: '', rule: '' };
  }}
>
  <label class="flex flex-col"
    ><span class="soft">Name</span><input
      class="input input-sm bg-base-100 w-36"
      bind:value={day.label}
    /></label
  >
  <label class="flex flex-col"
    ><span class="soft">Date</span><input
      class="input input-sm bg-base-100 w-28"
      placeholder="2026-12-25"
      bind:value={day.date}
    /></label
  >
  <label class="flex flex-col"
    ><span class="soft">or a rule</span><input
      class="input input-sm bg-base-100 w-52"
      placeholder="on the first tuesday of every month"
      bind:value={day.rule}
    /></label
  >
  <button class="btn" value="closed" disabled={!day.date && !day.rule}>Close this day</button>
  <button class="btn" value="open" disabled={!day.date && !day.rule}>Open this day</button>
</form>
