<script lang="ts">
  // A file of a house style: one of those that are there, or one that is sent now.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, bytesOf, type HouseFile } from '../../lib/api';
  import { changed } from '../../lib/queries';
  import Field from '../Field.svelte';
  import Trouble from '../Trouble.svelte';

  const {
    label,
    kind,
    files,
    value,
    set,
  }: {
    label: string;
    kind: 'logo' | 'typeface';
    files: HouseFile[];
    value: string;
    set: (id: string) => void;
  } = $props();
  const client = useQueryClient();
  const fitting = $derived(files.filter((f) => f.kind === kind));
  const sending = createMutation(() => ({
    mutationFn: (file: File) =>
      body(
        api.POST('/api/settings/house/files', {
          params: { query: { name: file.name } },
          ...bytesOf(file),
        }),
      ),
    onSuccess: async (f: HouseFile) => {
      set(f.id); // before the list of files knows it: who saves at once saves it, too
      await changed(client, 'settings');
    },
  }));
  const about = (f: HouseFile) =>
    f.kind === 'logo'
      ? `${f.name}, ${String(f.width ?? 0)} by ${String(f.height ?? 0)}`
      : `${f.family ?? f.name}${f.bold ? ', bold' : ''}, ${(f.letters ?? 0).toLocaleString('en-GB')} letters`;
</script>

<Field
  {label}
  help={kind === 'logo'
    ? 'PNG, or SVG of shapes, paths and texts; 4 MB at most.'
    : 'TrueType or OpenType, 4 MB at most; its rights must let it be embedded.'}
>
  {#snippet children(names)}
    <select
      {...names}
      class="select select-sm bg-base-100 w-full"
      {value}
      onchange={(e) => set(e.currentTarget.value)}
    >
      <option value="">none</option>
      {#each fitting as f (f.id)}<option value={f.id}>{about(f)}</option>{/each}
      {#if value && !fitting.some((f) => f.id === value)}<option {value}>the file that was sent</option>{/if}
    </select>
    <input
      type="file"
      aria-label="Send a file: {label}"
      class="mt-1 w-full text-[12.5px]"
      accept={kind === 'logo' ? '.png,.svg' : '.ttf,.otf'}
      onchange={(e) => {
        const file = e.currentTarget.files?.[0];
        if (file) sending.mutate(file);
      }}
    />
    {#if sending.isPending}<p class="soft text-[12.5px]" role="status">It is read …</p>{/if}
    {#if sending.isError}<Trouble error={sending.error} />{/if}
  {/snippet}
</Field>
