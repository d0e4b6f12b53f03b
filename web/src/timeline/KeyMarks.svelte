<script lang="ts">
  import { marks } from "../state/marks.svelte";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";

  interface Props {
    element: number;
    name: string;
    /** The value whose keys these are; without it all of the element. */
    path?: string | null;
    frames: number[];
  }
  let { element, name, path = null, frames }: Props = $props();

  function press(event: PointerEvent & { currentTarget: HTMLElement }, frame: number) {
    if (event.button !== 0) return;
    event.stopPropagation();
    const width = event.currentTarget.parentElement!.getBoundingClientRect().width;
    marks.drag(event, { element, path, frame }, lanes.perPixel(width));
  }

  function type(event: KeyboardEvent, frame: number) {
    const mark = { element, path, frame };
    if (event.key === "Enter" || event.key === " ") marks.pick(mark, event.shiftKey);
    else if (event.key === "ArrowLeft" || event.key === "ArrowRight") {
      if (!marks.has(mark)) marks.pick(mark, false);
      void marks.nudge(event.key === "ArrowLeft" ? -1 : 1);
    } else if (event.key === "Delete") {
      if (!marks.has(mark)) marks.pick(mark, false);
      void marks.remove();
    } else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

{#each frames as frame (frame)}
  {@const chosen = marks.has({ element, path, frame })}
  <button
    class="absolute top-1/2 -mt-[12px] -ml-[12px] grid h-6 w-6 cursor-grab place-items-center"
    style:left={`${lanes.at(frame + (chosen ? marks.dragged : 0))}%`}
    aria-label={`Key of ${name} at frame ${frame}`}
    aria-pressed={chosen}
    title={`Frame ${frame}`}
    data-key={frame}
    onpointerdown={(event) => press(event, frame)}
    ondblclick={() => playback.go(frame)}
    onkeydown={(event) => type(event, frame)}
  >
    <i
      class="h-[7px] w-[7px] rounded-full"
      class:bg-ink={!chosen}
      class:bg-lime={chosen}
      class:scale-125={chosen}
    ></i>
  </button>
{/each}
