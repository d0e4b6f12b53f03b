<script lang="ts">
  import type { Element } from "../api/client";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";
  import { shot } from "../state/shot.svelte";

  interface Props {
    element: Element;
    /** Its first and last frame, and where they are below the element. */
    frames: { from_frame?: number | null; to_frame?: number | null };
    path: string;
    colour: string;
    off?: boolean;
  }
  /** The frames in which a force acts or particles are born; its ends can be dragged. */
  let { element, frames, path, colour, off = false }: Props = $props();
  let dragged = $state.raw<{ end: "from" | "to"; by: number } | null>(null);
  let from = $derived((frames.from_frame ?? playback.first) + (dragged?.end === "from" ? dragged.by : 0));
  let to = $derived((frames.to_frame ?? playback.last) + (dragged?.end === "to" ? dragged.by : 0));

  function press(event: PointerEvent & { currentTarget: HTMLElement }, end: "from" | "to") {
    event.stopPropagation();
    const lane = event.currentTarget.parentElement!.parentElement!.getBoundingClientRect();
    const start = event.clientX;
    const by = (e: PointerEvent) => Math.round((e.clientX - start) * lanes.perPixel(lane.width));
    const move = (e: PointerEvent) => (dragged = { end, by: by(e) });
    const done = (e: PointerEvent) => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
      const frame = end === "from" ? from : to;
      dragged = null;
      if (by(e) !== 0)
        void shot.set(`Span of ${element.name}`, [element.id], `${path}/${end}_frame`, Math.max(0, frame));
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
  }
</script>

<i
  class="absolute top-2 h-[7px] rounded"
  class:opacity-30={off}
  style:background={`color-mix(in srgb, ${colour} 60%, transparent)`}
  style:left={`${lanes.at(Math.max(from, playback.first))}%`}
  style:width={`${Math.max(0.4, lanes.at(Math.min(to, playback.last)) - lanes.at(Math.max(from, playback.first)))}%`}
>
  {#each ["from", "to"] as const as end (end)}
    <span
      class="absolute -top-1 h-[15px] w-[7px] cursor-ew-resize rounded-sm hover:bg-ink"
      class:-left-1={end === "from"}
      class:-right-1={end === "to"}
      role="presentation"
      title={end === "from" ? `From frame ${from}` : `To frame ${to}`}
      onpointerdown={(event) => press(event, end)}
    ></span>
  {/each}
</i>
