<script lang="ts">
  // A day, some days in a row, or the days of a rule, that a calendar closes or opens besides.
  import type { CalendarEntry } from '../lib/api';
  import Field from './Field.svelte';

  const { add }: { add: (key: 'closed' | 'open', entry: CalendarEntry) => void } = $props();
  const none = { label: '', date: '', days: '', rule: '' };
  let day = $state({ ...none });
  const one = $derived(!day.days || day.days === '1');
</script>

<form
  class="panel grid gap-2 px-3.5 py-2.5"
  aria-label="Add a day"
  onsubmit={(e) => {
    e.preventDefault();
    const key = (e.submitter as HTMLButtonElement | null)?.value === 'open' ? 'open' : 'closed';
    add(key, {
      ...(day.label.trim() && { label: day.label.trim() }),
      ...(day.date.trim() && { date: day.date.trim() }),
      ...(day.rule.trim() && { rule: day.rule.trim() }),
      ...(!one && { days: Number(day.days) }),
    });
    day = { ...none };
  }}
>
  <h2>Close or open days</h2>
  <Field label="Name of the day">
    {#snippet children(names)}<input
        {...names}
        class="input input-sm bg-base-100 w-full"
        bind:value={day.label}
      />{/snippet}
  </Field>
  <Field label="Date" help="Of a rule the first day from which it counts.">
    {#snippet children(names)}<input
        {...names}
        class="input input-sm bg-base-100 w-full"
        placeholder="2026-12-25"
        bind:value={day.date}
      />{/snippet}
  </Field>
  <Field label="Days in a row">
    {#snippet children(names)}<input
        {...names}
        class="input input-sm bg-base-100 w-20"
        inputmode="numeric"
        pattern="[1-9][0-9]?[0-9]?"
        placeholder="1"
        bind:value={day.days}
      />{/snippet}
  </Field>
  <Field label="or a rule" help="How it comes again, in words or as iCalendar lines.">
    {#snippet children(names)}<textarea
        {...names}
        class="textarea bg-base-100 min-h-8 w-full py-1"
        rows={Math.min(day.rule.split('\n').length, 3)}
        placeholder="on the first tuesday of every month"
        bind:value={day.rule}></textarea>{/snippet}
  </Field>
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn" value="closed" disabled={!day.date && !day.rule}
      >{one ? 'Close this day' : 'Close these days'}</button
    >
    <button class="btn" value="open" disabled={!day.date && !day.rule}
      >{one ? 'Open this day' : 'Open these days'}</button
    >
  </div>
</form>
