<script lang="ts">
  // The groups, of which an administrator changes one at a time.
  import { searchParams } from 'sv-router';
  import type { Group } from '../../lib/api';
  import { isAdministrator } from '../../lib/me.svelte';
  import { searched } from '../../lib/param';
  import RecordActions from '../records/RecordActions.svelte';
  import GroupForm from './GroupForm.svelte';

  const { groups }: { groups: Group[] } = $props();
  /** Which group is being changed; the empty name is a new one. */
  const edited = $derived(searched('group'));
  function edit(name?: string) {
    searchParams.delete('group', undefined, { replace: true });
    searchParams.delete('post', undefined, { replace: true });
    if (name !== undefined) searchParams.set('group', name, { replace: true });
  }
</script>

<section class="panel px-3.5 py-3">
  <div class="flex items-baseline gap-3">
    <h2>Groups</h2>
    <span class="flex-1"></span>
    <!-- Not while one is added: what is written would go into a form that its answer closes. -->
    {#if isAdministrator() && edited !== ''}<button class="btn" onclick={() => edit('')}>Add a group</button
      >{/if}
  </div>
  {#if edited === ''}<GroupForm onclose={() => edit()} />{/if}
  {#each groups as g (g.id)}
    {#if edited === g.name}
      <GroupForm group={g} onclose={() => edit()} />
      <RecordActions kind="group" name={g.name} onrenamed={edit} oncopied={edit} onremoved={() => edit()} />
    {:else}
      <div class="flex items-baseline gap-3 py-1">
        <p class="min-w-0 flex-1 break-words">
          <b>{g.name}</b> <span class="soft">group:{g.name}</span><br />{g.members.join(', ')}
        </p>
        {#if isAdministrator()}<button
            class="btn"
            aria-label="Change the group {g.name}"
            onclick={() => edit(g.name)}>Change</button
          >{/if}
      </div>
    {/if}
  {:else}<p class="soft">There is no group. A group names several recipients once, for all jobs.</p>{/each}
</section>
