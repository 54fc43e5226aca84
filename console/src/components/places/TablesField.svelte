<script lang="ts">
  // Files that queries read as tables: a line for each, with its name and how it is read. What is
  // written stands in a hidden field, as JSON.
  import { untrack } from 'svelte';
  import type { Setting } from '../../lib/api';
  import { settingLabel } from '../../lib/setting';
  import Field from '../Field.svelte';

  type Table = { file?: string; form?: string; delimiter?: string; encoding?: string; text?: string[] };
  const { setting, value }: { setting: Setting; value?: Record<string, object> } = $props();
  let lines = $state(
    untrack(() =>
      Object.entries((value ?? {}) as Record<string, Table>).map(([name, t]) => ({
        name,
        file: t.file ?? '',
        form: t.form ?? '',
        delimiter: t.delimiter ?? '',
        encoding: t.encoding ?? '',
        text: (t.text ?? []).join(', '),
      })),
    ),
  );
  const written = $derived(
    JSON.stringify(
      Object.fromEntries(
        lines
          .filter((l) => l.name.trim() || l.file.trim())
          .map((l) => [
            l.name.trim(),
            {
              file: l.file.trim(),
              ...(l.form && { form: l.form }),
              ...(l.delimiter && { delimiter: l.delimiter }),
              ...(l.encoding.trim() && { encoding: l.encoding.trim() }),
              ...(l.text.trim() && { text: l.text.split(',').map((t) => t.trim()) }),
            },
          ]),
      ),
    ),
  );
  const doc = $derived(setting.doc.charAt(0).toUpperCase() + setting.doc.slice(1) + '.');
</script>

<Field
  label={settingLabel(setting.name)}
  help="{doc} The file may have * and ?, of which the newest is read. Columns of text keep their digits as they stand."
>
  {#snippet children(names)}
    <input type="hidden" name="set-{setting.name}" value={written === '{}' ? '' : written} />
    <div {...names} role="group" aria-label={settingLabel(setting.name)} class="grid gap-1.5">
      {#each lines as line, n (n)}
        <div class="flex flex-wrap gap-1.5">
          <input
            class="input input-sm bg-base-100 w-28"
            aria-label="Table {n + 1}: name"
            placeholder="name"
            bind:value={line.name}
          />
          <input
            class="input input-sm bg-base-100 mono min-w-32 flex-1"
            aria-label="Table {n + 1}: file"
            placeholder="tides_*.csv"
            bind:value={line.file}
          />
          <select
            class="select select-sm bg-base-100 w-36"
            aria-label="Table {n + 1}: form"
            bind:value={line.form}
          >
            <option value="">by its ending</option>
            <option value="csv">csv</option>
            <option value="json">json</option>
            <option value="xlsx">xlsx</option>
          </select>
          <input
            class="input input-sm bg-base-100 w-12"
            aria-label="Table {n + 1}: delimiter"
            placeholder=","
            maxlength="1"
            bind:value={line.delimiter}
          />
          <input
            class="input input-sm bg-base-100 w-28"
            aria-label="Table {n + 1}: encoding"
            placeholder="utf-8"
            bind:value={line.encoding}
          />
          <input
            class="input input-sm bg-base-100 w-36"
            aria-label="Table {n + 1}: columns of text"
            placeholder="columns of text"
            bind:value={line.text}
          />
          <button
            class="edit-link"
            type="button"
            aria-label="Take out table {n + 1}"
            onclick={() => lines.splice(n, 1)}>Take out</button
          >
        </div>
      {/each}
      <button
        class="edit-link justify-self-start"
        type="button"
        onclick={() => lines.push({ name: '', file: '', form: '', delimiter: '', encoding: '', text: '' })}
        >Add a table</button
      >
    </div>
  {/snippet}
</Field>
