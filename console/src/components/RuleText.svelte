<script lang="ts">
  // The text of a rule, and what it may go on with while one writes: the words that fit, or presets
  // while nothing is written. Arrow down goes to them, Escape comes back.
  import type { When } from '../lib/api';
  import { among, onLastLine } from '../lib/chips';
  import { dateIn } from '../lib/month';
  import RuleForm from './RuleForm.svelte';

  let {
    rule,
    write,
    caret = $bindable(),
    goesOn,
    wrong,
    said,
    path,
  }: {
    rule: string;
    write: (rule: string) => void;
    caret: number; // in characters
    goesOn: When['goes_on'];
    wrong: boolean;
    said: string; // id of what is said of it
    path: string;
  } = $props();

  const presets: [string, string][] = [
    ['Weekdays', 'on weekdays at 06:15'],
    ['Every hour', 'every hour at :05'],
    ['Window', 'on open days between 06:00 and 22:00, every 15 minutes'],
    ['1st and 15th', 'on day 1 and 15 of every month at 02:00'],
    ['Month end', 'on the last open day of every month at 18:00'],
    ['First Monday', 'on the first monday of every month at 18:15'],
    ['Quarter end', 'on the last open day of every quarter at 18:00'],
    ['Once', `once on ${dateIn(Date.now() + 86_400_000, 'UTC')} at 14:00`],
    ['Cron', '15 6 * * 1-5'],
  ];
  const id = $props.id();
  let field = $state<HTMLTextAreaElement>();
  let offered = $state<HTMLElement>();
  let forming = $state(false);
  const characters = (text: string) => [...text].length;
  const mark = () => (caret = characters(rule.slice(0, field?.selectionStart ?? rule.length)));

  /** Puts an offer in the place of what stands before the caret, and the caret behind it. */
  function take(text: string) {
    const rest = [...rule].slice(caret).join('');
    const gap = rest && !/^[\s,;]/.test(rest) ? ' ' : '';
    write(text + gap + rest);
    caret = characters(text);
    requestAnimationFrame(() => {
      field?.focus();
      field?.setSelectionRange(text.length, text.length);
    });
  }
  const move = (e: KeyboardEvent) => among(e, offered, field);
</script>

<div data-path={path ? `${path}.rule` : undefined}>
  <div class="flex flex-wrap items-baseline gap-x-3">
    <label for="{id}-rule" class="soft text-[13px]">Rule, in words, as cron or as iCalendar</label>
    <span class="flex-1"></span>
    <button type="button" class="edit-link" aria-expanded={forming} onclick={() => (forming = !forming)}
      >{forming ? 'Close the form' : 'Put it together by clicking'}</button
    >
  </div>
  <textarea
    id="{id}-rule"
    bind:this={field}
    class="textarea bg-base-100 mono min-h-14 w-full"
    rows="2"
    spellcheck="false"
    autocomplete="off"
    aria-invalid={wrong}
    aria-describedby="{said} {id}-how"
    value={rule}
    oninput={(e) => {
      write(e.currentTarget.value);
      mark();
    }}
    onclick={mark}
    onkeyup={mark}
    onkeydown={(e) => {
      if (e.key === 'ArrowDown' && onLastLine(e.currentTarget) && goesOn.length) move(e);
    }}></textarea>
  <span id="{id}-how" class="sr-only">Arrow down goes to words that may follow.</span>
  <div
    bind:this={offered}
    class="flex h-8 items-center gap-1.5 overflow-x-auto overflow-y-hidden"
    role="group"
    aria-label="Goes on with"
  >
    <span class="soft w-16 shrink-0 text-[12px]">Goes on</span>
    {#each goesOn as o (o.word)}
      <button type="button" class="chip shrink-0" onkeydown={move} onclick={() => take(o.text)}
        >{o.word}</button
      >
    {/each}
  </div>
  <div class="flex flex-wrap items-center gap-1.5" aria-label="Presets" role="group">
    <span class="soft w-16 shrink-0 text-[12px]">Presets</span>
    {#each presets as [word, preset] (word)}
      <button type="button" class="chip" onclick={() => write(preset)}>{word}</button>
    {/each}
  </div>
  {#if forming}<div class="pt-2"><RuleForm {write} /></div>{/if}
</div>
