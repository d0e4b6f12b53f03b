<script lang="ts">
  import { Popover } from "bits-ui";
  import { api, type CheckEntry } from "../api/client";
  import { notices } from "../state/notices.svelte";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  let entries = $state.raw<CheckEntry[]>([]);
  let open = $state(false);
  let asked = 0;

  $effect(() => {
    void shot.state?.revision;
    void playback.freshness?.playing;
    void open;
    const id = shot.id;
    const turn = ++asked;
    if (id !== null)
      void api
        .check(id)
        .then((list) => turn === asked && (entries = list))
        .catch(() => undefined);
  });

  // The check of the gate reads frames, so it is asked for only while the list is open.
  let outside = $state.raw<CheckEntry[]>([]);
  let gates = 0;
  $effect(() => {
    void shot.state?.revision;
    void playback.freshness?.playing;
    const [id, chosen] = [shot.id, [...selection.ids]];
    const turn = ++gates;
    if (open && id !== null)
      void api
        .gate(id, chosen)
        .then((list) => turn === gates && (outside = list))
        .catch(() => undefined);
  });

  let grave = $derived(entries.filter((entry) => entry.mistake !== "frames_missing").length);

  async function fix(entry: CheckEntry) {
    shot.take(await notices.attempt(() => api.fix(shot.id!, entry)));
  }
</script>

<Popover.Root bind:open>
  <Popover.Trigger
    class={`flex items-center gap-1.5 whitespace-nowrap rounded-md px-1.5 py-1 ${grave ? "text-stale" : "text-soft"}`}
  >
    <span class="h-2 w-2 rotate-12 rounded-[2px] bg-current" aria-hidden="true"></span>
    {grave ? `${grave} to check` : "Check list"}
  </Popover.Trigger>
  <Popover.Portal>
    <Popover.Content
      class="card z-40 grid w-[380px] gap-2 p-3 shadow-2xl"
      sideOffset={8}
      role="dialog"
      aria-label="Check list"
      collisionPadding={8}
    >
      <h2 class="text-[15px] font-[680]">Check list</h2>
      {#each [...entries, ...outside] as entry (entry.mistake + entry.elements.join())}
        <div class="rounded-md border-l-2 border-stale bg-raised px-3 py-2">
          <p>{entry.reason}</p>
          <div class="mt-1 flex gap-3">
            {#if entry.fix}<button class="text-lime underline" onclick={() => fix(entry)}>{entry.fix}</button
              >{/if}
            {#if entry.elements.length}
              <button class="text-soft underline" onclick={() => selection.set(entry.elements)}>Select</button
              >
            {/if}
          </div>
        </div>
      {:else}
        <p class="text-soft">Nothing looks wrong.</p>
      {/each}
      <p class="text-faint">
        {selection.ids.length
          ? "The frames in which a selected element is outside the camera's gate are named too."
          : "Select an element to see in which frames it is outside the camera's gate."}
      </p>
    </Popover.Content>
  </Popover.Portal>
</Popover.Root>
