<script lang="ts">
  import { Popover } from "bits-ui";
  import History from "@lucide/svelte/icons/history";
  import { api, type Revision } from "../api/client";
  import { notices } from "../state/notices.svelte";
  import { shot } from "../state/shot.svelte";
  import { ago } from "../state/time";

  let open = $state(false);
  let list = $state.raw<Revision[]>([]);
  let name = $state("");

  $effect(() => {
    void shot.state?.revision;
    if (open && shot.id !== null) void notices.attempt(async () => (list = await api.history(shot.id!)));
  });

  async function nameVersion(event: SubmitEvent) {
    event.preventDefault();
    await notices.attempt(async () => {
      await api.nameVersion(shot.id!, name);
      name = "";
      list = await api.history(shot.id!);
    });
  }

  async function restore(revision: number) {
    shot.take(await notices.attempt(() => api.restoreRevision(shot.id!, revision)));
  }
</script>

<Popover.Root bind:open>
  <Popover.Trigger class="btn px-2" aria-label="History" title="History and versions"
    ><History size={15} /></Popover.Trigger
  >
  <Popover.Portal>
    <Popover.Content
      class="card z-40 w-[340px] p-3 shadow-2xl"
      sideOffset={8}
      role="dialog"
      aria-label="History"
      collisionPadding={8}
    >
      <h2 class="text-[15px] font-[680]">History</h2>
      <form class="mt-2 flex gap-2" onsubmit={nameVersion}>
        <input
          class="field flex-1"
          bind:value={name}
          placeholder="Name this version"
          aria-label="Name this version"
        />
        <button class="btn" disabled={!name.trim()}>Name it</button>
      </form>
      <ol class="mt-2 grid max-h-[320px] overflow-auto">
        {#each list as revision (revision.number)}
          <li
            class="flex items-baseline gap-2 border-b border-line py-1.5"
            class:text-faint={!revision.head && !revision.version}
          >
            <span class="flex-1" class:font-semibold={revision.version}
              >{revision.version ?? revision.label}</span
            >
            <span class="text-faint">{ago(revision.made)}</span>
            {#if revision.head}<span class="text-lime">now</span>{:else}
              <button class="text-soft underline" onclick={() => restore(revision.number)}>Restore</button>
            {/if}
          </li>
        {/each}
      </ol>
      <a class="mt-2 inline-block text-soft underline" href={`/api/shots/${shot.id}/export.zip`} download
        >Save the shot as a file</a
      >
    </Popover.Content>
  </Popover.Portal>
</Popover.Root>
