<script lang="ts">
  import { p } from '../router';
</script>

<svelte:head><title>No such page · Iron Bell</title></svelte:head>
<h1>There is no such page</h1>
<p>The address may be mistyped. <a class="underline" href={p('/')}>Go to Today</a>.</p>
