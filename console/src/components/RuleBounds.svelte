<script lang="ts">
  // From when until when a rule rings, how often, in which hours, and what a closed day does to it.
  import type { Timing } from '../lib/api';
  import { oneOf } from '../lib/form';

  const {
    timing,
    set,
    path = '',
  }: {
    timing: Timing;
    path?: string; // of the trigger, for the flags of an editor
    set: <K extends keyof Timing>(key: K, value: Timing[K] | '' | 0 | undefined) => void;
  } = $props();

  const at = (field: string) => (path ? `${path}.${field}` : undefined);
</script>

<div class="flex flex-wrap items-end gap-3 text-[13px]">
  <label class="flex flex-col" data-path={at('start')}
    ><span class="soft">From</span><input
      class="input input-sm bg-base-100 w-34"
      type="text"
      placeholder="2026-12-01"
      value={timing.start ?? ''}
      oninput={(e) => set('start', e.currentTarget.value)}
    /></label
  >
  <label class="flex flex-col" data-path={at('end')}
    ><span class="soft">Until</span><input
      class="input input-sm bg-base-100 w-34"
      type="text"
      placeholder="no end"
      value={timing.end ?? ''}
      oninput={(e) => set('end', e.currentTarget.value)}
    /></label
  >
  <label class="flex flex-col" data-path={at('count')}
    ><span class="soft">At most</span><input
      class="input input-sm bg-base-100 w-24"
      type="number"
      min="0"
      placeholder="rings"
      value={timing.count ?? ''}
      oninput={(e) => set('count', Number(e.currentTarget.value))}
    /></label
  >
  <label class="flex flex-col" data-path={at('hours')}
    ><span class="soft">Permitted hours</span><input
      class="input input-sm bg-base-100 w-36"
      type="text"
      placeholder="06:00-22:00"
      value={(timing.hours ?? []).join(', ')}
      oninput={(e) =>
        set(
          'hours',
          e.currentTarget.value
            .split(',')
            .map((h) => h.trim())
            .filter(Boolean),
        )}
    /></label
  >
  <label class="flex flex-col" data-path={at('closed')}
    ><span class="soft">When the day is closed</span>
    <select
      class="select select-sm bg-base-100 w-52"
      value={timing.closed ?? ''}
      onchange={(e) => set('closed', oneOf(e.currentTarget.value, ['skip', 'before', 'after']))}
    >
      <option value="">as the rule says</option>
      <option value="skip">pass over</option>
      <option value="before">the open day before</option>
      <option value="after">the open day after</option>
    </select>
  </label>
</div>
