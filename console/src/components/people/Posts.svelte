<script lang="ts">
  // The posts of the organisation, of which an administrator changes one at a time.
  import { searchParams } from 'sv-router';
  import type { Person, Post } from '../../lib/api';
  import { isAdministrator } from '../../lib/me.svelte';
  import { searched } from '../../lib/param';
  import PostForm from '../PostForm.svelte';

  const { posts, people }: { posts: Post[]; people: Person[] } = $props();
  /** Which post is being changed; the empty name is a new one. */
  const edited = $derived(searched('post'));
  function edit(name?: string) {
    searchParams.delete('group', undefined, { replace: true });
    searchParams.delete('post', undefined, { replace: true });
    if (name !== undefined) searchParams.set('post', name, { replace: true });
  }
</script>

<section class="panel px-3.5 py-3">
  <div class="flex items-baseline gap-3">
    <h2>Posts</h2>
    <span class="flex-1"></span>
    {#if isAdministrator()}<button class="btn" onclick={() => edit('')}>Add a post</button>{/if}
  </div>
  {#if edited === ''}<PostForm {posts} {people} onclose={() => edit()} />{/if}
  {#each posts as one (one.id)}
    {#if edited === one.name}
      <PostForm post={one} {posts} {people} onclose={() => edit()} />
    {:else}
      <div class="flex items-baseline gap-3 py-1">
        <p class="min-w-0 flex-1 break-words">
          <b>{one.name}</b>{#if one.under}<span class="soft ml-1">under {one.under}</span>{/if}: {one.holders
            .map((held) => people.find((who) => who.login === held)?.name ?? held)
            .join(', ') || 'held by nobody'}
        </p>
        {#if isAdministrator()}<button
            class="btn"
            aria-label="Change the post {one.name}"
            onclick={() => edit(one.name)}>Change</button
          >{/if}
      </div>
    {/if}
  {:else}<p class="soft">
      There is no post. A post is a position in the organisation; who holds it changes, jobs need not.
    </p>{/each}
</section>
