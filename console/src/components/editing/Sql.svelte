<script lang="ts">
  // A query: its editor is loaded when it is shown; until then, and where it cannot be, it is a
  // plain field of text.
  import { createQuery } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { aroundQuery } from '../../lib/editing/context';
  import type { At, SqlEditor } from '../../lib/editing/sql';
  import { asks } from '../../lib/queries';

  type Names = { id: string; 'aria-describedby': string; 'aria-invalid'?: boolean };
  let {
    names,
    label,
    sentences,
    value = $bindable(),
  }: { names: Names; label: string; sentences: string[]; value: unknown } = $props();

  const around = aroundQuery();
  const source = $derived(around.source());
  const tables = createQuery(() => asks.tables(source.name, source.identity));
  const known = $derived({
    protocol: source.protocol,
    tables: tables.data ?? [],
    parameters: around.parameters(),
  });
  const placed = $derived(
    sentences.flatMap((sentence): At[] => {
      const at = /\(line (\d+), column (\d+)\)/.exec(sentence);
      return at ? [{ line: Number(at[1]), column: Number(at[2]), sentence }] : [];
    }),
  );
  let editor = $state.raw<SqlEditor>();

  /** Puts the editor in the place of the plain field. */
  function mount(element: HTMLElement) {
    let gone = false;
    void import('../../lib/editing/sql').then(({ openSql }) => {
      if (gone) return;
      editor = untrack(() =>
        openSql(
          element,
          String(value ?? ''),
          known,
          { 'aria-label': label, 'aria-describedby': names['aria-describedby'] },
          (text) => (value = text || undefined),
          () => around.run(),
        ),
      );
    });
    return () => {
      gone = true;
      editor?.close();
      editor = undefined;
    };
  }
  $effect(() => editor?.text(String(value ?? '')));
  $effect(() => editor?.know(known));
  $effect(() => editor?.faults(placed));
</script>

{#if !editor}
  <textarea
    {...names}
    class="textarea bg-base-100 mono w-full"
    rows={Math.max(3, String(value ?? '').split('\n').length)}
    spellcheck="false"
    aria-label={label}
    value={String(value ?? '')}
    oninput={(e) => (value = e.currentTarget.value || undefined)}></textarea>
{/if}
<div class="border-base-300 overflow-hidden rounded border" class:hidden={!editor} {@attach mount}></div>
