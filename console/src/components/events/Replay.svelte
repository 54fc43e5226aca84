<script lang="ts">
  // Events of ours, handed on to a subscription once more from a point.
  import { createMutation, useQueryClient } from '@tanstack/svelte-query';
  import { api, body } from '../../lib/api';
  import { text } from '../../lib/form';
  import { myZone } from '../../lib/me.svelte';
  import { opened } from '../../lib/opened';
  import { changed } from '../../lib/queries';
  import { fromField, zoneWord } from '../../lib/time';
  import Field from '../Field.svelte';
  import Trouble from '../Trouble.svelte';

  const { name, onclose }: { name: string; onclose: () => void } = $props();
  const client = useQueryClient();
  const replay = createMutation(() => ({
    mutationFn: (form: FormData) =>
      body(
        api.POST('/api/subscriptions/{name}/replay', {
          params: { path: { name } },
          body: { since: fromField(text(form, 'since') ?? '', myZone()).toISOString() },
        }),
      ),
    onSuccess: () => changed(client, 'subscription'),
  }));
</script>

<form
  {@attach opened(onclose)}
  class="my-2 grid max-w-3xl gap-2"
  aria-label="Replay to {name}"
  onsubmit={(e) => {
    e.preventDefault();
    replay.mutate(new FormData(e.currentTarget));
  }}
>
  <Field
    label="Since *"
    help="In {zoneWord(
      myZone(),
    )}. All that happened since then is handed on again in its order, with the ids that it had; a program that has them passes them over."
  >
    {#snippet children(names)}
      <input
        {...names}
        name="since"
        type="datetime-local"
        required
        class="input input-sm bg-base-100 w-full"
      />
    {/snippet}
  </Field>
  {#if replay.isError}<Trouble error={replay.error} />{/if}
  {#if replay.data}<p role="status">
      {replay.data.events === 0
        ? 'Nothing was published since then; nothing is handed on again.'
        : `${replay.data.events === 1 ? '1 event is' : `${replay.data.events} events are`} looked at again; those that it wants follow now.`}
    </p>{/if}
  <div class="flex flex-wrap gap-2 sm:pl-[11.5rem]">
    <button class="btn btn-primary" disabled={replay.isPending}>Hand it on again</button>
    <button class="btn" type="button" onclick={onclose}>Close</button>
  </div>
</form>
