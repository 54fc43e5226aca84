<script lang="ts">
  // One alert, as mails and calls about it link to.
  import { createQuery } from '@tanstack/svelte-query';
  import AlertCard from '../components/AlertCard.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { asks } from '../lib/queries';
  import { p, route } from '../router';

  const id = $derived(Number(route.params.alert));
  const query = createQuery(() => asks.alert(id));
  const alert = $derived(query.data);
</script>

<svelte:head><title>Alert {id} · Iron Bell</title></svelte:head>

{#if query.isError}
  <div class="flex items-baseline gap-3.5">
    <span class="soft"><a href={p('/')}>Today</a> /</span>
    <h1>Alert {route.params.alert}</h1>
  </div>
  <Trouble error={query.error} />
  <p class="soft">Alerts that were closed are removed after the days that the settings say.</p>
{/if}
{#if alert}
  <div class="flex flex-wrap items-baseline gap-3.5">
    <span class="soft"><a href={p('/')}>Today</a> /</span>
    <h1>{alert.job}: {alert.kind}</h1>
    <span class="mono soft">alert {alert.id}</span>
    <span class="flex-1"></span>
    {#if alert.run_id}<a class="btn" href={p('/runs/:run', { params: { run: alert.run_id } })}
        >Open run {alert.run_id}</a
      >{/if}
  </div>
  <div class="panel"><AlertCard {alert} whole /></div>
  {#if alert.state === 'closed'}<p class="soft">It is closed: nothing is needed any more.</p>{/if}
{/if}
