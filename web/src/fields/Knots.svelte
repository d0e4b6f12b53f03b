<script lang="ts">
  // The knots on a thread: a press goes to the key, a drag moves it.
  import type { Knot } from "./thread";
  import { marks } from "../state/marks.svelte";
  import { playback } from "../state/playback.svelte";
  import { threads } from "../state/scale.svelte";
  import type { Target } from "../state/target";

  let { knots, target }: { knots: Knot[]; target: Target } = $props();

  function pull(event: PointerEvent & { currentTarget: HTMLElement }, knot: Knot) {
    if (event.button !== 0) return;
    event.preventDefault();
    event.stopPropagation();
    const element = target.element?.id;
    if (element === undefined) return playback.go(knot.frame);
    const { width } = event.currentTarget.parentElement!.getBoundingClientRect();
    marks.drag(event, { element, path: knot.path, frame: knot.frame }, threads.perPixel(width), () =>
      playback.go(knot.frame),
    );
  }

  const dragged = (knot: Knot) => {
    const element = target.element?.id;
    const chosen = element !== undefined && marks.has({ element, path: knot.path, frame: knot.frame });
    return chosen ? marks.dragged : 0;
  };
</script>

{#each knots as knot (`${knot.path} ${knot.frame}`)}
  <i
    class="knot"
    class:here={knot.frame === playback.frame}
    style:left={`${threads.at(knot.frame + dragged(knot))}%`}
    title={`Key at frame ${knot.frame}`}
    role="presentation"
    data-knot={knot.frame}
    onpointerdown={(event) => pull(event, knot)}
  ></i>
{/each}

<style>
  .knot {
    position: absolute;
    inset-block: 0;
    width: 9px;
    margin-left: -4.5px;
    cursor: ew-resize;
  }
  .knot::after {
    content: "";
    position: absolute;
    inset-block: 0.5px;
    left: 3.5px;
    width: 2px;
    border-radius: 1px;
    background: var(--lime);
  }
  .knot.here::after {
    left: 3px;
    width: 3px;
  }
</style>
