<script lang="ts">
  // What can be done with a record whatever its kind: shown as a file, renamed, copied, removed.
  import type { Kind } from '../../lib/records';
  import RecordNames from './RecordNames.svelte';
  import RemoveRecord from './RemoveRecord.svelte';

  const {
    kind,
    name,
    may = true,
    onrenamed,
    oncopied,
    onremoved,
  }: {
    kind: Kind;
    name: string;
    may?: boolean; // whoever looks may change it
    onrenamed?: (to: string) => void;
    oncopied?: (to: string) => void;
    onremoved?: () => void;
  } = $props();
  let doing = $state<'' | 'rename' | 'copy' | 'remove'>('');
  const close = () => (doing = '');
</script>

<div class="flex flex-wrap items-center gap-x-3 gap-y-1 text-[13px]">
  <a
    class="edit-link"
    href="/api/record?{new URLSearchParams({ kind, name })}"
    download="{name}.yaml"
    aria-label="{kind} {name} as a file">As a file</a
  >
  {#if may}
    <button class="edit-link" type="button" onclick={() => (doing = 'rename')}>Rename …</button>
    <button class="edit-link" type="button" onclick={() => (doing = 'copy')}>Copy …</button>
    <button class="edit-link" type="button" onclick={() => (doing = 'remove')}>Remove …</button>
  {/if}
</div>
{#if doing === 'remove'}
  <RemoveRecord records={[{ kind, name }]} onclose={close} {onremoved} />
{:else if doing}
  {#key doing}<RecordNames
      {kind}
      {name}
      copies={doing === 'copy'}
      onclose={close}
      ondone={doing === 'copy' ? oncopied : onrenamed}
    />{/key}
{/if}
