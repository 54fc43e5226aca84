<script lang="ts">
  // Below what an editor says of a job: its mails as they will read, and the parts of its runs.
  import type { Ahead } from '../../lib/api';

  const { ahead }: { ahead: Ahead | undefined } = $props();
  const mails = $derived((ahead?.tasks ?? []).filter((t) => t.subject));
</script>

<div class="grid grid-cols-1 gap-3 [overflow-wrap:anywhere]">
  {#each mails as t (t.task)}
    <section class="rule-above">
      <h2>{mails.length > 1 ? `The mail of ${t.task}` : 'The mail'}</h2>
      <p class="font-semibold break-words">{t.subject}</p>
      <p class="max-h-60 overflow-y-auto py-1 break-words whitespace-pre-line">{t.body}</p>
      <p class="soft break-words">
        {#if t.files?.length}With it: {t.files.join(', ')}.{:else}No file is attached.{/if}
      </p>
    </section>
  {/each}
  {#if ahead?.each?.length}
    <section class="rule-above">
      <details>
        <summary class="cursor-pointer font-semibold"
          >Divides into {ahead.parts} {ahead.parts === 1 ? 'part' : 'parts'}</summary
        >
        <ol class="max-h-80 overflow-y-auto py-1 pl-5 text-[13px]">
          {#each ahead.each as part (part.name)}
            <li class="list-decimal">
              {part.name}
              <span class="soft break-words"
                >{Object.entries(part.values)
                  .map(([name, value]) => `${name} ${String(value)}`)
                  .join(', ')}</span
              >
            </li>
          {/each}
        </ol>
        {#if (ahead.parts ?? 0) > ahead.each.length}<p class="soft">
            The first {ahead.each.length} of {ahead.parts}.
          </p>{/if}
      </details>
    </section>
  {/if}
</div>
