<script lang="ts">
  // Somebody else saved the record meanwhile: what both changed is chosen field by field.
  import type { Written } from '../../lib/editing/hint';
  import { put } from '../../lib/editing/merge';
  import type { Meanwhile } from '../../lib/editing/saving.svelte';
  import { myZone } from '../../lib/me.svelte';
  import ZonedTime from '../ZonedTime.svelte';

  const { meanwhile, done }: { meanwhile: Meanwhile; done: (value: Written) => void } = $props();
  const merged = $derived(meanwhile.merged);

  let theirs = $state<Record<string, boolean>>({});
  const text = (v: unknown) =>
    v === undefined ? 'nothing' : typeof v === 'string' ? v : JSON.stringify(v, null, 1);
  function goOn() {
    let value = merged.value;
    for (const c of merged.clashes) if (theirs[c.path]) value = put(value, c.path, c.theirs);
    done(value);
  }
</script>

<section class="panel border-warning px-3.5 py-3" aria-label="Changed meanwhile">
  <h2 class="text-base-content!">
    {meanwhile.who || 'Somebody'} saved this, <ZonedTime at={meanwhile.at} zone={myZone()} />, while you wrote
  </h2>
  {#if merged.theirs.length}
    <p>
      Taken from them, since you left it alone:
      {#each merged.theirs as path, i (path)}{i ? ', ' : ''}<span class="mono">{path}</span>{/each}.
    </p>
  {/if}
  {#if merged.clashes.length}
    <p class="mt-1">Both of you changed these. Choose which is to stand:</p>
    <table class="grid-list mt-1">
      <thead><tr><th>Field</th><th>Was</th><th>Yours</th><th>Theirs</th></tr></thead>
      <tbody>
        {#each merged.clashes as c (c.path)}
          <tr>
            <td class="mono">{c.path}</td>
            <td class="mono break-words whitespace-pre-wrap">{text(c.was)}</td>
            {#each [false, true] as their (their)}
              <td class="mono break-words whitespace-pre-wrap">
                <label class="flex gap-1.5"
                  ><input
                    type="radio"
                    class="radio radio-xs mt-1"
                    name={c.path}
                    checked={Boolean(theirs[c.path]) === their}
                    onchange={() => (theirs[c.path] = their)}
                  />{text(their ? c.theirs : c.mine)}</label
                >
              </td>
            {/each}
          </tr>
        {/each}
      </tbody>
    </table>
  {:else}<p>Nothing that you changed is touched.</p>{/if}
  <button type="button" class="btn btn-primary mt-2" onclick={goOn}>Go on with this</button>
</section>
