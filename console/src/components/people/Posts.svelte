<script lang="ts">
  // The posts of the organisation, of which an administrator changes one at a time.
  import { searchParams } from 'sv-router';
  import type { Person, Post } from '../../lib/api';
  import { isAdministrator } from '../../lib/me.svelte';
  import { searched } from '../../lib/param';
  import RecordActions from '../records/RecordActions.svelte';
  import PostForm from './PostForm.svelte';

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
    <!-- Not while one is added: what is written would go into a form that its answer closes. -->
    {#if isAdministrator() && edited !== ''}<button class="btn" onclick={() => edit('')}>Add a post</button
      >{/if}
  </div>
  {#if edited === ''}<PostForm {posts} {people} onclose={() => edit()} />{/if}
  {#if posts.length}
    <!-- A post stands below the one that it is under; the lines say where. -->
    <ul class="post-tree">
      {@render below('')}
    </ul>
  {:else}<p class="soft">
      There is no post. A post is a position in the organisation; who holds it changes, jobs need not.
    </p>{/if}
</section>

{#snippet below(above: string)}
  {#each posts.filter((one) => (one.under ?? '') === above) as one (one.id)}
    <li>
      {#if edited === one.name}
        <PostForm post={one} {posts} {people} onclose={() => edit()} />
        <RecordActions
          kind="post"
          name={one.name}
          onrenamed={edit}
          oncopied={edit}
          onremoved={() => edit()}
        />
      {:else}
        <div class="flex items-baseline gap-3 py-1">
          <p class="min-w-0 flex-1 break-words">
            <b>{one.name}</b>{#if one.under}<span class="sr-only"> under {one.under}</span>{/if}: {one.holders
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
      {#if posts.some((lower) => lower.under === one.name)}
        <ul>{@render below(one.name)}</ul>
      {/if}
    </li>
  {/each}
{/snippet}

<style>
  .post-tree ul {
    margin-left: 0.5rem;
    border-left: 1px solid var(--color-base-300);
    padding-left: 1.25rem;
  }
  .post-tree ul > li {
    position: relative;
  }
  .post-tree ul > li::before {
    content: '';
    position: absolute;
    top: 0.95rem;
    left: -1.25rem;
    width: 0.9rem;
    border-top: 1px solid var(--color-base-300);
  }
  .post-tree ul > li:last-child::after {
    /* The line ends at the last one. */
    content: '';
    position: absolute;
    top: 1rem;
    bottom: 0;
    left: calc(-1.25rem - 1px);
    width: 1px;
    background: var(--color-base-100);
  }
</style>
