<script lang="ts">
  import Plus from "@lucide/svelte/icons/plus";
  import FolderInput from "@lucide/svelte/icons/folder-input";
  import { Dialog } from "bits-ui";
  import { api, type Card } from "../api/client";
  import Confirm from "../app/Confirm.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import { notices } from "../state/notices.svelte";
  import { route } from "../state/route.svelte";
  import { ago } from "../state/time";

  let cards = $state.raw<Card[] | null>(null);
  let asking = $state(false);
  let doomed = $state.raw<Card | null>(null);
  let name = $state("Untitled shot");
  let width = $state(1280);
  let height = $state(720);
  let fps = $state(24);
  let first = $state(1);
  let last = $state(96);
  let chooser: HTMLInputElement;
  // Two pictures are asked for at a time: a browser has six connections to a server, and a picture
  // may take long to render.
  let fetched = $state(2);

  async function load() {
    cards = (await notices.attempt(api.shots)) ?? cards;
  }
  void load();

  async function begin() {
    const made = await notices.attempt(() => api.createShot({ name, width, height, fps, first, last }));
    if (made) route.open(made.id);
  }

  async function take(files: FileList | null) {
    for (const file of files ?? []) {
      const made = await notices.attempt(() => api.importShot(file));
      if (made) route.open(made.id);
    }
  }

  async function remove(yes: boolean) {
    const card = doomed;
    doomed = null;
    if (card && yes) await notices.attempt(() => api.deleteShot(card.id));
    await load();
  }
</script>

<main class="overflow-auto p-8">
  <div class="mx-auto max-w-[1120px]">
    <div class="mb-5 flex items-center gap-3">
      <h1 class="text-[22px] font-[680] tracking-tight">Saltmarket</h1>
      <span class="text-soft">{cards ? `${cards.length} ${cards.length === 1 ? "shot" : "shots"}` : ""}</span>
      <span class="flex-1"></span>
      <input
        class="hidden"
        type="file"
        accept=".json,.zip"
        bind:this={chooser}
        onchange={() => take(chooser.files)}
        aria-label="Shot file"
      />
      <button class="btn" onclick={() => chooser.click()}><FolderInput size={15} /> Take in a shot</button>
      <button class="btn btn-go" onclick={() => (asking = true)}><Plus size={15} /> New shot</button>
    </div>
    <ul class="grid grid-cols-[repeat(auto-fill,minmax(250px,1fr))] gap-4">
      {#each cards ?? [] as card, place (card.id)}
        <li class="card overflow-hidden">
          <a href={`#/shot/${card.id}/desk`} class="block">
            <img
              class="aspect-video w-full bg-raised object-cover text-transparent"
              src={place < fetched ? api.poster(card.id, card.revision) : undefined}
              onload={() => fetched++}
              onerror={() => fetched++}
              alt={`${card.name}, a frame`}
            />
            <span class="block px-3.5 pt-2.5 text-[14px] font-[650]">{card.name}</span>
            {#if card.about}<span class="block px-3.5 text-soft">{card.about}</span>{/if}
          </a>
          <div class="flex items-center gap-2 px-3.5 pb-3 text-soft">
            <span class="flex-1"
              >{card.bodies}
              {card.bodies === 1 ? "body" : "bodies"} · {((card.last - card.first + 1) / card.fps).toFixed(1)} s
              at {card.fps} fps · {ago(card.changed)}</span
            >
            <button
              class="text-faint underline"
              aria-label={`Delete ${card.name}`}
              onclick={() => (doomed = card)}>Delete</button
            >
          </div>
        </li>
      {:else}
        {#if cards}<li class="text-soft">There are no shots yet. Begin with a new one.</li>{/if}
      {/each}
    </ul>
  </div>
</main>

<Dialog.Root bind:open={asking}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Content
      class="card fixed top-24 left-1/2 z-50 grid w-[360px] -translate-x-1/2 gap-1.5 p-4 shadow-2xl"
    >
      <Dialog.Title class="mb-1 text-[17px] font-[680]">New shot</Dialog.Title>
      <label class="grid grid-cols-[108px_1fr] items-center gap-2"
        >Name <input class="field" bind:value={name} maxlength="80" /></label
      >
      <NumberField label="Width" unit="px" value={width} step={16} whole oncommit={(v) => (width = v)} />
      <NumberField label="Height" unit="px" value={height} step={16} whole oncommit={(v) => (height = v)} />
      <NumberField label="Frame rate" unit="fps" value={fps} step={1} oncommit={(v) => (fps = v)} />
      <NumberField label="First frame" value={first} step={1} whole oncommit={(v) => (first = v)} />
      <NumberField label="Last frame" value={last} step={1} whole oncommit={(v) => (last = v)} />
      <div class="mt-2 flex justify-end gap-2">
        <Dialog.Close class="btn">Cancel</Dialog.Close>
        <button class="btn btn-go" onclick={begin}>Begin</button>
      </div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>

<Confirm
  name={doomed?.name ?? null}
  label="Delete"
  what="Its history, runs and films go with it."
  onanswer={remove}
/>
