<script lang="ts">
  // A text of several lines: as it is, a list with a line for each, or pairs of "name: value".
  import { untrack } from 'svelte';
  import { settingText, settingValue } from '../../lib/setting';

  type Names = { id: string; 'aria-describedby': string; 'aria-invalid'?: boolean };
  let {
    names,
    form,
    hint = '',
    value = $bindable(),
  }: { names: Names; form: 'list' | 'pairs' | 'long'; hint?: string; value: unknown } = $props();

  // While somebody types, the text stays theirs: a new line is not yet a member of a list.
  let text = $state(untrack(() => (form === 'long' ? String(value ?? '') : settingText(value))));
  let written = untrack(() => JSON.stringify(value));
  $effect(() => {
    const now = JSON.stringify(value);
    if (now === written) return;
    written = now;
    text = form === 'long' ? String(value ?? '') : settingText(value);
  });
  function write(to: string) {
    text = to;
    value = form === 'long' ? to || undefined : settingValue({ form }, to);
    written = JSON.stringify(value);
  }
</script>

<textarea
  {...names}
  class="textarea bg-base-100 min-h-8 w-full py-1 {form === 'long' ? '' : 'mono'}"
  rows={Math.min(14, Math.max(form === 'long' ? 2 : 1, text.split('\n').length))}
  placeholder={hint}
  spellcheck="false"
  value={text}
  oninput={(e) => write(e.currentTarget.value)}></textarea>
