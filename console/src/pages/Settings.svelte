<script lang="ts">
  // What holds for the whole installation: how alerts go out, what all mails have
  // in common, where bounces come back to, and the sign of life.
  import AlertsForm from '../components/settings/AlertsForm.svelte';
  import BouncesForm from '../components/settings/BouncesForm.svelte';
  import CopyPanel from '../components/settings/CopyPanel.svelte';
  import HeartbeatForm from '../components/settings/HeartbeatForm.svelte';
  import KeepingForm from '../components/settings/KeepingForm.svelte';
  import KeptBackPanel from '../components/settings/KeptBackPanel.svelte';
  import MailForm from '../components/settings/MailForm.svelte';
  import ProgramsPanel from '../components/settings/ProgramsPanel.svelte';
  import RemovedRecords from '../components/records/RemovedRecords.svelte';
  import WhenForm from '../components/settings/WhenForm.svelte';
  import { isAdministrator } from '../lib/me.svelte';
  import { p } from '../router';
</script>

<svelte:head><title>Settings · Iron Bell</title></svelte:head>

<div class="flex flex-wrap items-baseline gap-3.5">
  <h1>Settings</h1>
  <span class="soft">What holds for this whole installation. What is saved holds at once.</span>
</div>
{#if !isAdministrator()}
  <p>An administrator changes these.</p>
{/if}
<section class="panel px-3.5 py-3">
  <h2>House style</h2>
  <p class="soft max-w-4xl">
    The logo, colours, typefaces and foot of every page, sheet, slide and mail.
    <a class="link" href={p('/settings/house')}>Look at it and change it</a>
  </p>
</section>
<CopyPanel />
<AlertsForm />
<MailForm />
<KeptBackPanel />
<BouncesForm />
<WhenForm />
<KeepingForm />
<HeartbeatForm />
<ProgramsPanel />
<RemovedRecords />
