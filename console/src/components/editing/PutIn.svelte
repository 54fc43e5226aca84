<script lang="ts">
  // Below a text while one is at it: what it is for, and the moving parts that may be put in. Arrow
  // down goes to them from the text, Escape comes back.
  import { among, onLastLine } from '../../lib/chips';

  const { field, help, parts }: { field: string; help: string; parts: string[] } = $props();

  let group = $state<HTMLElement>();
  const at = () => document.getElementById(field) as HTMLInputElement | HTMLTextAreaElement | null;
  function put(part: string) {
    const into = at();
    if (!into) return;
    into.setRangeText(
      part,
      into.selectionStart ?? into.value.length,
      into.selectionEnd ?? into.value.length,
      'end',
    );
    into.dispatchEvent(new Event('input', { bubbles: true }));
    into.focus();
  }
  $effect(() => {
    const from = at();
    const down = (e: Event) => {
      const key = e as KeyboardEvent;
      // In a field that offers words of its own, arrow down goes through those.
      const free = from && !from.hasAttribute('list');
      if (free && key.key === 'ArrowDown' && onLastLine(from)) among(key, group, from);
    };
    from?.addEventListener('keydown', down);
    return () => from?.removeEventListener('keydown', down);
  });
</script>

<div class="field-help">
  {#if help}<p id="{field}-help">{help}</p>{/if}
  <div
    class="field-parts max-h-32 flex-wrap gap-1 overflow-y-auto py-1"
    role="group"
    aria-label="Put in"
    bind:this={group}
  >
    {#each parts as part (part)}
      <button
        type="button"
        tabindex="-1"
        class="mono cursor-pointer rounded border border-current px-1.5 text-[12px]"
        onmousedown={(e) => e.preventDefault()}
        onkeydown={(e) => among(e, group, at())}
        onclick={() => put(part)}>{part}</button
      >
    {/each}
  </div>
</div>
