<script lang="ts">
  // Asks what a dropped image is.
  import { Dialog } from "bits-ui";
  import { images, type DroppedImage } from "../state/images.svelte";
  import { shot } from "../state/shot.svelte";

  let image = $derived(images.asked);
  let solids = $derived(images.solids);
  let particles = $derived(images.particles);
  const named = (ids: number[]) => ids.map((id) => shot.element(id)?.name).join(", ");
  let answers = $derived<{ name: string; note: string; off: boolean; run: (of: DroppedImage) => unknown }[]>([
    {
      name: "A backdrop",
      note: "Fills the camera's picture behind everything, and keeps filling it.",
      off: false,
      run: (of) => images.asBackdrop(of),
    },
    {
      name: "A look's image",
      note: solids.length ? `Laid on ${named(solids)}.` : "Select a solid to lay an image on.",
      off: solids.length === 0,
      run: (of) => images.onLook(of),
    },
    {
      name: "The sky",
      note: "Wrapped around the shot, twice as wide as high. It lights the shot too.",
      off: false,
      run: (of) => images.asSky(of),
    },
    {
      name: "A map of births",
      note: particles.length
        ? `${named(particles.map((of) => of.id))}: more are born where the image is bright.`
        : "Needs particles that are born on a surface or a grid.",
      off: particles.length === 0,
      run: (of) => images.asMap(of),
    },
  ]);

  function answer(run: ((of: DroppedImage) => unknown) | null) {
    const of = image;
    images.answered();
    if (of && run) void run(of);
  }
</script>

<Dialog.Root open={image !== null} onOpenChange={(open) => !open && answer(null)}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Content
      class="card fixed top-24 left-1/2 z-50 grid w-[420px] max-w-[calc(100vw-16px)] -translate-x-1/2 gap-2 p-4 shadow-2xl"
    >
      <Dialog.Title class="text-[17px] font-[680]">What is {image?.name}?</Dialog.Title>
      {#each answers as { name, note, off, run } (name)}
        <button
          class="grid rounded-lg bg-raised px-3 py-2 text-left enabled:hover:brightness-112 disabled:opacity-60"
          disabled={off}
          onclick={() => answer(run)}
          ><b class="font-[650]">{name}</b><span class="text-soft">{note}</span></button
        >
      {/each}
      <div class="flex justify-end">
        <Dialog.Close class="btn">Only keep it among the images</Dialog.Close>
      </div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
