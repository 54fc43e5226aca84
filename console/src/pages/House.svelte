<script lang="ts">
  // How what leaves the house looks: its styles, and each as it will arrive, in all forms.
  import { createQuery } from '@tanstack/svelte-query';
  import HouseForm from '../components/settings/HouseForm.svelte';
  import HouseProofs from '../components/settings/HouseProofs.svelte';
  import Trouble from '../components/Trouble.svelte';
  import { api, body, type HouseStyle } from '../lib/api';
  import { isAdministrator } from '../lib/me.svelte';
  import { asks } from '../lib/queries';
  import { p } from '../router';

  const house = createQuery(() => asks.setting('house', () => body(api.GET('/api/settings/house'))));
  let styles = $state<HouseStyle[]>();
  let at = $state(0);
  $effect(() => {
    styles ??= house.data && structuredClone($state.snapshot(house.data.styles));
  });
  const style = $derived(styles?.[at]);
  function add() {
    const n = (styles?.length ?? 0) + 1;
    styles = [...(styles ?? []), { name: n === 1 ? 'House' : `Style ${String(n)}` }];
    at = n - 1;
  }
</script>

<svelte:head><title>House style · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <a class="link" href={p('/settings')}>Settings</a>
  <h1>House style</h1>
  <span class="soft">The logo, colours, typefaces and foot of every page, sheet, slide and mail.</span>
</div>
{#if house.isError}<Trouble error={house.error} />{/if}
{#if styles && house.data}
  <div class="flex flex-wrap items-center gap-2" role="group" aria-label="Styles">
    {#each styles as one, i (i)}
      <button class="btn btn-sm" class:btn-primary={i === at} aria-pressed={i === at} onclick={() => (at = i)}
        >{one.name || 'no name'}</button
      >
    {/each}
    {#if isAdministrator()}<button class="btn btn-sm" onclick={add}>Add a style</button>{/if}
    <span class="soft text-[13px]"
      >{styles.length === 0
        ? 'There is none; everything looks as the service does by itself.'
        : 'The first one holds wherever a report chooses none, and for the service’s own mails.'}</span
    >
  </div>
  {#if style}
    <div class="grid gap-3 xl:grid-cols-[30rem_minmax(0,1fr)]">
      <HouseForm bind:styles bind:at files={house.data.files} onsaved={() => (styles = undefined)} />
      <HouseProofs {style} />
    </div>
  {:else if house.data.styles.length > 0}
    <HouseForm bind:styles bind:at files={house.data.files} onsaved={() => (styles = undefined)} />
  {/if}
{/if}
