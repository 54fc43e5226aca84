<script lang="ts">
  // A style as it will arrive, in all forms side by side: a sample that the service makes anew
  // when the style changes. Each is shut off in a frame of its own.
  import type { HouseStyle } from '../../lib/api';

  const { style }: { style: HouseStyle } = $props();
  const forms = [
    { format: 'pdf', title: 'Page', half: false },
    { format: 'mail', title: 'Mail', half: true },
    { format: 'pptx', title: 'Slides', half: false },
    { format: 'xlsx', title: 'Sheet', half: true },
    { format: 'html', title: 'Page of HTML', half: true },
    { format: 'png', title: 'Picture', half: true },
  ];
  const id = $props.id();
  const asked = (format: string) =>
    JSON.stringify({
      style: Object.fromEntries(Object.entries(style).filter(([, v]) => v !== '' && v !== undefined)),
      format,
    });
  let sent = $state<HTMLFormElement[]>([]);
  $effect(() => {
    void asked('');
    const timer = setTimeout(() => {
      for (const f of sent) f.submit();
    }, 700);
    return () => clearTimeout(timer);
  });
</script>

<div class="grid content-start gap-3 lg:grid-cols-2">
  {#each forms as f, i (f.format)}
    <section class="panel px-2.5 py-2">
      <h2 class="text-[14px]">{f.title}</h2>
      <form
        method="post"
        action="/api/frame/house"
        target="house-{id}-{f.format}"
        class="hidden"
        bind:this={sent[i]}
      >
        <input type="hidden" name="ask" value={asked(f.format)} />
      </form>
      <div class="border-base-300 h-[19rem] overflow-hidden border bg-white">
        <iframe
          name="house-{id}-{f.format}"
          title="{f.title} in the house style"
          class={f.half ? 'h-[38rem] w-[200%] origin-top-left scale-50' : 'h-full w-full'}
        ></iframe>
      </div>
    </section>
  {/each}
</div>
