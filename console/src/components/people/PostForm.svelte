<script lang="ts">
  // A post of the organisation to add or to change: under which it stands, and who
  // holds it.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { untrack } from 'svelte';
  import { api, beganFrom, body, toBeNew } from '../../lib/api';
  import { opened, whileHere } from '../../lib/opened';
  import { changed } from '../../lib/queries';
  import Field from '../Field.svelte';
  import PickPeople from './PickPeople.svelte';
  import FormField from '../FormField.svelte';
  import Trouble from '../Trouble.svelte';

  type Post = { name: string; under?: string; holders: string[]; revision?: number };
  const {
    post,
    posts,
    people,
    onclose,
  }: { post?: Post; posts: Post[]; people: { login: string; name: string }[]; onclose: () => void } =
    $props();
  const client = useQueryClient();
  const close = whileHere(() => onclose());
  const guard = untrack(() => (post ? beganFrom(post.revision) : toBeNew));
  let picked = $state<string[]>();
  const holders = $derived(picked ?? post?.holders ?? []);
  const done = async () => {
    await changed(client, 'post');
    close();
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
  <PickPeople
    label="Held by"
    {people}
    logins={holders}
    none="Nobody holds it."
    onpick={(all) => (picked = all)}
  />
  {#if save.isError}<Trouble error={save.error} />{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={save.isPending}>Save the post</button>
    <button class="btn" type="button" onclick={onclose}>{post ? 'Leave it as it is' : 'Do not add it'}</button
    >
  </div>
</form>
