<script lang="ts">
  // A post of the organisation to add or to change: under which it stands, and who
  // holds it.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew } from '../lib/api';
  import { opened } from '../lib/opened';
  import { changed } from '../lib/queries';
  import Field from './Field.svelte';
  import FormField from './FormField.svelte';
  import Trouble from './Trouble.svelte';

  type Post = { name: string; under?: string; holders: string[]; revision?: number };
  const {
    post,
    posts,
    people,
    onclose,
  }: { post?: Post; posts: Post[]; people: { login: string; name: string }[]; onclose: () => void } =
    $props();
  const client = useQueryClient();
  const guard = untrack(() => (post ? beganFrom(post.revision) : toBeNew));
  let picked = $state<string[]>();
  const holders = $derived(picked ?? post?.holders ?? []);
  const nameOf = (login: string) => people.find((one) => one.login === login)?.name ?? login;
  const done = async () => {
    await changed(client, 'post');
    onclose();
  };
  const save = createMutation(() => ({
    meta: { says: 'The post is saved.' },
    mutationFn: (form: FormData) => {
      const name = post?.name ?? String(form.get('name') ?? '').trim();
      return body(
        api.PUT('/api/posts/{name}', {
          params: { path: { name } },
          body: { under: String(form.get('under') ?? '') || undefined, holders },
          ...guard,
        }),
      );
    },
    onSuccess: done,
  }));
  const remove = createMutation(() => ({
    meta: { says: 'The post is removed.' },
    mutationFn: () =>
      body(api.DELETE('/api/posts/{name}', { params: { path: { name: post?.name ?? '' } }, ...guard })),
    onSuccess: done,
  }));
</script>

<form
  {@attach opened(onclose)}
  class="grid max-w-3xl gap-2 py-2"
  aria-label={post ? `Change the post ${post.name}` : 'Add a post'}
  onsubmit={(e) => {
    e.preventDefault();
    save.mutate(new FormData(e.currentTarget));
  }}
>
  {#if post}
    <b>{post.name}</b>
  {:else}
    <FormField
      label="Name"
      name="name"
      help="Jobs write to who holds it as post:name, and to all below it as under:name."
      needed
    />
  {/if}
  <Field label="Stands under">
    {#snippet children(names)}
      <select {...names} name="under" class="select select-sm bg-base-100 w-full" value={post?.under ?? ''}>
        <option value="">nothing</option>
        {#each posts.filter((one) => one.name !== post?.name) as one (one.name)}<option value={one.name}
            >{one.name}</option
          >{/each}
      </select>
    {/snippet}
  </Field>
  <Field label="Held by">
    {#snippet children(names)}
      <select
        {...names}
        class="select select-sm bg-base-100 w-full"
        value=""
        onchange={(e) => {
          if (e.currentTarget.value) picked = [...holders, e.currentTarget.value];
          e.currentTarget.value = '';
        }}
      >
        <option value="">add a person …</option>
        {#each people.filter((one) => !holders.includes(one.login)) as one (one.login)}<option
            value={one.login}>{one.name}</option
          >{/each}
      </select>
      <div class="mt-1 flex flex-wrap gap-1.5">
        {#each holders as login (login)}
          <button
            class="chip"
            type="button"
            aria-label="Take {nameOf(login)} out"
            onclick={() => (picked = holders.filter((one) => one !== login))}>{nameOf(login)} ×</button
          >
        {:else}<span class="soft text-[13px]">Nobody holds it.</span>{/each}
      </div>
    {/snippet}
  </Field>
  {#if save.isError}<Trouble error={save.error} />{/if}
  {#if remove.isError}<Trouble error={remove.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}>Save the post</button>
    <button class="btn" type="button" onclick={onclose}>{post ? 'Leave it as it is' : 'Do not add it'}</button
    >
    {#if post}
      <span class="flex-1"></span>
      <button class="btn" type="button" onclick={() => remove.mutate()}>Remove the post</button>
    {/if}
  </div>
</form>
