<script lang="ts">
  import { MutationCache, QueryClient, QueryClientProvider } from '@tanstack/svelte-query';
  import { saysOf } from './lib/announce.svelte';
  import SignedIn from './components/SignedIn.svelte';
  import { Problem } from './lib/api';
  import { show } from './lib/theme.svelte';

  show();
  const client = new QueryClient({
    mutationCache: new MutationCache({
      onSuccess: (answer, asked, _, mutation) => saysOf(mutation.meta, answer, asked),
    }),
    defaultOptions: {
      queries: {
        staleTime: 5_000,
        // What a page reads only later, behind a condition, must not have changed unseen.
        notifyOnChangeProps: 'all',
        // What the service refused it refuses again; what did not answer may.
        refetchInterval: (query) =>
          query.state.error instanceof Problem && query.state.error.status === 0 ? 5_000 : false,
        retry: (n, error) => !(error instanceof Problem && error.status > 0) && n < 3,
      },
    },
  });
</script>

<QueryClientProvider {client}><SignedIn /></QueryClientProvider>
