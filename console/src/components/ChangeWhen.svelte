<script lang="ts">
  // Loads the form when it is asked for. It stands in a file of its own, because
  // the router takes a page that holds an import() for one that is loaded later.
  import type { JobPage } from '../lib/api';

  const { job, done }: { job: JobPage; done: () => void } = $props();
</script>

{#await import('./WhenForm.svelte') then form}<form.default {job} {done} />{/await}
