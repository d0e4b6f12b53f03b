<script lang="ts">
  // Two runs played side by side, from one camera and at one frame.
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import { Dialog } from "bits-ui";
  import RunView from "./RunView.svelte";
  import { shot } from "../state/shot.svelte";
  import { playback } from "../state/playback.svelte";

  interface Props {
    /** The two runs: id and name. */
    runs: { id: number; name: string }[];
    onclose: () => unknown;
  }
  let { runs, onclose }: Props = $props();
  let frame = $state(playback.first);
  let running = $state(true);
  /** Views that have not drawn the frame yet: playing waits for both. */
  let behind = $state.raw(new Set<number>());

  $effect(() => {
    if (!running) return;
    const fps = shot.document?.timing.fps ?? 24;
    const timer = setInterval(() => {
      if (behind.size > 0) return;
      behind = new Set(runs.map((run) => run.id));
      frame = frame < playback.last ? frame + 1 : playback.first;
    }, 1000 / fps);
    return () => clearInterval(timer);
  });

  function drawn(run: number) {
    if (!behind.has(run)) return;
    behind = new Set([...behind].filter((id) => id !== run));
  }
</script>

<Dialog.Root open={runs.length === 2} onOpenChange={(open) => !open && onclose()}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/60" />
    <Dialog.Content
      class="card fixed inset-x-4 top-14 bottom-4 z-50 grid grid-rows-[auto_1fr_auto] gap-2 p-3 shadow-2xl"
    >
      <Dialog.Title class="text-[15px] font-[680]">{runs[0]?.name} beside {runs[1]?.name}</Dialog.Title>
      <div class="grid min-h-0 grid-cols-2 gap-2">
        {#each runs as run (run.id)}
          <RunView run={run.id} name={run.name} {frame} ondrawn={() => drawn(run.id)} />
        {/each}
      </div>
      <div class="flex items-center gap-3">
        <button
          class="grid h-7 w-7 flex-none place-items-center rounded-full bg-lime text-on-lime"
          aria-label={running ? "Pause" : "Play"}
          onclick={() => (running = !running)}
          >{#if running}<Pause size={14} fill="currentColor" />{:else}<Play
              size={14}
              fill="currentColor"
            />{/if}</button
        >
        <span class="w-14 text-[15px] font-[650]" data-testid="side-frame">{frame}</span>
        <input
          class="h-6 flex-1 accent-[var(--lime)]"
          type="range"
          min={playback.first}
          max={playback.last}
          aria-label="Frame of both runs"
          value={frame}
          oninput={(event) => {
            running = false;
            frame = Number(event.currentTarget.value);
          }}
        />
        <Dialog.Close class="btn">Close</Dialog.Close>
      </div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
