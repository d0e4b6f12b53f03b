<script lang="ts">
  // A frame of a run in a view of its own, from the shot's camera.
  import { onMount } from "svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import { Staged } from "../viewport/staged.svelte";
  import { Viewport } from "../viewport/Viewport";

  interface Props {
    run: number;
    name: string;
    frame: number;
    /** The frame asked for last is drawn, or is not in the run. */
    ondrawn: () => unknown;
  }
  let { run, name, frame, ondrawn }: Props = $props();
  let canvas: HTMLCanvasElement;
  let box: HTMLElement;
  let viewport = $state.raw<Viewport | null>(null);
  let there = $state(true);
  const staged = new Staged();

  onMount(() => {
    const nothing = () => undefined;
    const made = new Viewport(canvas, {
      pick: nothing,
      moved: nothing,
      moving: nothing,
      brushed: nothing,
      painted: nothing,
      curveMoved: nothing,
      curveDrawn: nothing,
      drawn: () => ondrawn(),
    });
    const watch = new ResizeObserver(() => made.resize(box.clientWidth, box.clientHeight, 1));
    watch.observe(box);
    viewport = made;
    return () => {
      watch.disconnect();
      made.dispose();
    };
  });

  $effect(() => staged.ask(frame));

  $effect(() => {
    if (viewport && shot.id !== null && shot.document) viewport.setShot(shot.id, shot.document, frame);
  });

  $effect(() => {
    const [made, now, asked] = [viewport, staged.now?.frame, frame];
    if (!made || !now) return;
    void playback.fetch(run, asked).then((found) => {
      if (asked !== frame) return;
      there = found !== null;
      if (!made.setFrames(found, now, null)) ondrawn();
    });
  });
</script>

<figure class="relative min-h-0 overflow-hidden rounded-lg bg-ground" bind:this={box}>
  <canvas bind:this={canvas} class="block h-full w-full" aria-label={`${name}, frame ${frame}`}></canvas>
  <figcaption class="absolute top-2 left-2 rounded-full bg-[#12181ae0] px-2.5 py-0.5 text-[#dfe8e5]">
    {name}{there ? "" : `: frame ${frame} is not computed`}
  </figcaption>
</figure>
