<script lang="ts">
  // The forms that set an installation up, each alone, for their tests.
  import { QueryClient, QueryClientProvider } from '@tanstack/svelte-query';
  import type { Place } from '../../lib/api';
  import DestinationForm from '../places/DestinationForm.svelte';
  import GroupForm from '../people/GroupForm.svelte';
  import PostForm from '../people/PostForm.svelte';

  type Post = { name: string; under?: string; holders: string[] };
  const {
    what,
    place,
    group,
    post,
    done,
  }: {
    what: 'destination' | 'group' | 'post';
    place?: Place;
    group?: { name: string; members: string[] };
    post?: Post;
    done: (...args: unknown[]) => void;
  } = $props();
  const posts: Post[] = [
    { name: 'Managing director', holders: [] },
    { name: 'Port master', under: 'Managing director', holders: ['oren'] },
  ];
  const people = [
    { login: 'oren', name: 'Oren Hask' },
    { login: 'joren', name: 'Joren Tak' },
  ];
</script>

<QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
  {#if what === 'destination'}<DestinationForm {place} onsaved={done} onclose={done} />
  {:else if what === 'group'}<GroupForm {group} onclose={done} />
  {:else}<PostForm {post} {posts} {people} onclose={done} />{/if}
</QueryClientProvider>
