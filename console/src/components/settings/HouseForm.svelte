<script lang="ts">
  // One style of the house: what it is made of, and what some readers will not make out.
  import { createMutation, createQuery, useQueryClient } from '@tanstack/svelte-query';
  import { api, body, type HouseFile, type HouseStyle } from '../../lib/api';
  import { isAdministrator } from '../../lib/me.svelte';
  import { asks, changed } from '../../lib/queries';
  import Field from '../Field.svelte';
  import Trouble from '../Trouble.svelte';
  import HouseColour from './HouseColour.svelte';
  import HouseUpload from './HouseUpload.svelte';

  let {
    styles = $bindable(),
    at = $bindable(),
    files,
    onsaved,
  }: { styles: HouseStyle[] | undefined; at: number; files: HouseFile[]; onsaved: () => void } = $props();

  const client = useQueryClient();
  const style = $derived(styles?.[at]);
  const said = createQuery(() => ({
    ...asks.setting(`house ${JSON.stringify(style)}`, () =>
      body(api.POST('/api/settings/house/check', { body: whole(style ?? { name: 'none' }) })),
    ),
    enabled: !!style && isAdministrator(),
    retry: false,
  }));
  const saving = createMutation(() => ({
    mutationFn: () => body(api.PUT('/api/settings/house', { body: { styles: (styles ?? []).map(whole) } })),
    onSuccess: async () => {
      await changed(client, 'settings');
      onsaved();
    },
  }));
  // What was emptied is left out.
  function whole(s: HouseStyle): HouseStyle {
    const kept = Object.fromEntries(Object.entries(s).filter(([, v]) => v !== '' && v !== undefined));
    return { ...kept, name: s.name, series: s.series?.length ? s.series : undefined };
  }
  function set(key: keyof HouseStyle, value: string) {
    styles = styles?.map((s, i) => (i === at ? { ...s, [key]: value } : s));
  }
  function remove() {
    styles = styles?.filter((_, i) => i !== at);
    at = 0;
  }
  const texts: {
    key: 'name' | 'typeface' | 'footer' | 'legal';
    label: string;
    help: string;
    lines?: boolean;
  }[] = [
    { key: 'name', label: 'Name', help: 'By which reports choose it.' },
    {
      key: 'typeface',
      label: 'Typeface of readers',
      help: 'For HTML, mails, sheets and slides: one that they have, such as Georgia.',
    },
    { key: 'footer', label: 'Foot', help: 'A line at the foot of everything.' },
    { key: 'legal', label: 'Small print', help: 'Below it.', lines: true },
  ];
</script>

<section class="panel px-3.5 py-3">
  <form
    aria-label="House style"
    onsubmit={(e) => {
      e.preventDefault();
      saving.mutate();
    }}
  >
    {#if style}
      <fieldset disabled={!isAdministrator()} class="grid gap-y-2">
        <legend class="sr-only">{style.name}</legend>
        <HouseUpload label="Logo" kind="logo" {files} value={style.logo ?? ''} set={(v) => set('logo', v)} />
        <HouseColour
          label="Accent"
          value={style.accent ?? ''}
          set={(v) => set('accent', v)}
          help="Rules, and the first series of charts."
        />
        <HouseColour
          label="Letters"
          value={style.ink ?? ''}
          set={(v) => set('ink', v)}
          help="Small print is a lighter form of it."
        />
        <Field
          label="Series of charts"
          help="Colours in their order, such as #14507a #e08e2b; the service’s own follow."
        >
          {#snippet children(names)}
            <input
              {...names}
              class="input input-sm bg-base-100 mono w-full"
              value={(style.series ?? []).join(' ')}
              onchange={(e) => {
                const all = e.currentTarget.value.split(/[\s,;]+/).filter(Boolean);
                styles = styles?.map((s, i) => (i === at ? { ...s, series: all } : s));
              }}
            />
          {/snippet}
        </Field>
        <HouseUpload
          label="Typeface of files"
          kind="typeface"
          {files}
          value={style.regular ?? ''}
          set={(v) => set('regular', v)}
        />
        <HouseUpload
          label="Its bold form"
          kind="typeface"
          {files}
          value={style.bold ?? ''}
          set={(v) => set('bold', v)}
        />
        {#each texts as t (t.key)}
          <Field label={t.label} help={t.help}>
            {#snippet children(names)}
              {#if t.lines}
                <textarea
                  {...names}
                  rows={3}
                  maxlength={500}
                  class="textarea bg-base-100 w-full py-1"
                  value={style[t.key] ?? ''}
                  onchange={(e) => set(t.key, e.currentTarget.value)}></textarea>
              {:else}
                <input
                  {...names}
                  class="input input-sm bg-base-100 w-full"
                  value={style[t.key] ?? ''}
                  onchange={(e) => set(t.key, e.currentTarget.value)}
                />
              {/if}
            {/snippet}
          </Field>
        {/each}
      </fieldset>
      {#if said.isError}<Trouble error={said.error} />{/if}
      {#each said.data?.says ?? [] as line (line)}
        <p class="mt-1.5 text-[13px]">{line}</p>
      {:else}
        {#if said.data}<p class="soft mt-1.5 text-[13px]">Its colours can be read by most.</p>{/if}
      {/each}
    {:else}
      <p>All styles are taken off; save to let everything look as the service does by itself.</p>
    {/if}
    {#if isAdministrator()}
      <div class="bg-base-100 sticky bottom-0 mt-2.5 flex flex-wrap items-center gap-3 py-2">
        <button class="btn btn-primary" disabled={saving.isPending}>Save</button>
        {#if style}<button type="button" class="btn" onclick={remove}>Take this style off</button>{/if}
        {#if saving.isSuccess}<span role="status">Saved.</span>{/if}
      </div>
    {/if}
    {#if saving.isError}<div class="mt-2"><Trouble error={saving.error} /></div>{/if}
  </form>
</section>
