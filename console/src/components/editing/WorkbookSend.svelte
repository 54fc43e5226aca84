<script lang="ts">
  // Sends a workbook, which is looked through at once.
  import { createMutation } from '@tanstack/svelte-query';
  import { api, body, bytesOf, type WorkbookFile } from '../../lib/api';
  import Trouble from '../Trouble.svelte';

  const { label, done }: { label: string; done: (file: WorkbookFile) => void } = $props();
  const sending = createMutation(() => ({
    mutationFn: (file: File) =>
      body(
        api.POST('/api/workbooks', {
          params: { query: { name: file.name } },
          ...bytesOf(file),
        }),
      ),
    onSuccess: done,
  }));
</script>

<label class="block text-[13px]"
  ><span class="font-semibold">{label}</span>
  <span class="soft">.xlsx, 20 MB at most, without macros, links to other workbooks and pivot tables</span
  ><input
    type="file"
    class="mt-1 block w-full text-[12.5px]"
    accept=".xlsx"
    onchange={(e) => {
      const file = e.currentTarget.files?.[0];
      e.currentTarget.value = '';
      if (file) sending.mutate(file);
    }}
  /></label
>
{#if sending.isPending}<p class="soft text-[12.5px]" role="status">It is looked through …</p>{/if}
{#if sending.isError}<Trouble error={sending.error} />{/if}
