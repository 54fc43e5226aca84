<script lang="ts">
  import { QueryClient, QueryClientProvider } from '@tanstack/svelte-query';
  import SignedIn from './components/SignedIn.svelte';
  import { Problem } from './lib/api';
  import { show } from './lib/theme.svelte';

  show();
  const client = new QueryClient({
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
