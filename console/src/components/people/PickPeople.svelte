<script lang="ts">
  // Some people, to be added from a list and taken out by a press.
  import Field from '../Field.svelte';

  const {
    label,
    help = '',
    people,
    logins,
    none,
    onpick,
  }: {
    label: string;
    help?: string;
    people: { login: string; name: string }[];
    logins: string[];
    none: string; // what is said when there is nobody
    onpick: (logins: string[]) => void;
  } = $props();
  const nameOf = (login: string) => people.find((one) => one.login === login)?.name ?? login;
</script>

<Field {label} {help}>
  {#snippet children(names)}
    <select
      {...names}
      class="select select-sm bg-base-100 w-full"
      value=""
      onchange={(e) => {
        if (e.currentTarget.value) onpick([...logins, e.currentTarget.value]);
        e.currentTarget.value = '';
      }}
    >
      <option value="">add a person …</option>
      {#each people.filter((one) => !logins.includes(one.login)) as one (one.login)}<option value={one.login}
          >{one.name}</option
        >{/each}
    </select>
    <div class="mt-1 flex flex-wrap gap-1.5">
      {#each logins as login (login)}
        <button
          class="chip"
          type="button"
          aria-label="Take {nameOf(login)} out"
          onclick={() => onpick(logins.filter((one) => one !== login))}>{nameOf(login)} ×</button
        >
      {:else}<span class="soft text-[13px]">{none}</span>{/each}
    </div>
  {/snippet}
</Field>
