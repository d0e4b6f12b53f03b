<script lang="ts">
  import { onMount } from "svelte";
  import CutBar from "./CutBar.svelte";
  import Legend from "./Legend.svelte";
  import MapView from "./MapView.svelte";
  import Reading from "./Reading.svelte";
  import ViewportTools from "./ViewportTools.svelte";
  import type { ViewportFrame } from "./frames";
  import { ForceView } from "./forces";
  import { Staged } from "./staged.svelte";
  import { Viewport } from "./Viewport";
  import { addFiles } from "../state/takingIn";
  import { coloursOf } from "../state/colouring";
  import type { Coloured } from "../state/colouring";
  import { colouring } from "../state/colouring.svelte";
  import { desk } from "../state/desk.svelte";
  import { judging } from "../state/judging.svelte";
  import { painting } from "../state/painting.svelte";
  import { performing } from "../state/performing.svelte";
  import { place, placePoint, pointsOf } from "../state/placing";
  import { stands } from "../state/finishing";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shown } from "../state/shown.svelte";
  import { deforms, particlesOf, shot, solidOf } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let canvas: HTMLCanvasElement;
  let box: HTMLElement;
  let viewport = $state.raw<Viewport | null>(null);
  let size = $state({ width: 0, height: 0 });
  let drawn = $state(0);
  /** The revision of the shot that was arranged last, and the one that is drawn. */
  let arrangedRevision = 0;
  let drawnRevision = $state(0);
  let dropping = $state(false);
  /** Counts up when elements were put where they are at the frame shown. */
  let arranged = $state(0);
  const staged = new Staged();

  onMount(() => {
    const made = new Viewport(canvas, {
      pick: (element, add) => {
        if (element === null) selection.none();
        else if (add) selection.toggle(element);
        else selection.only(element);
      },
      moved: (list) => {
        if (performing.on) performing.drop(list.map(({ id }) => id));
        else void place(list, desk.handle === "turn" ? "turned" : "moved", staged.now?.frame);
      },
      moving: (list) => {
        if (performing.on) performing.move(desk.handle, list);
      },
      brushed: (way) => painting.moved(way),
      painted: (way, normal) => painting.painted(way, normal),
      curveMoved: placePoint,
      curveDrawn: (points) => {
        if (desk.drawing) desk.drawing = { ...desk.drawing, points };
      },
      drawn: () => {
        drawn++;
        drawnRevision = arrangedRevision;
      },
    });
    shown.inSoftware = made.inSoftware;
    viewport = made;
    desk.viewport = made;
    const watch = new ResizeObserver(() => {
      size = { width: box.clientWidth, height: box.clientHeight };
      made.resize(size.width, size.height, Math.min(1.5, devicePixelRatio));
    });
    watch.observe(box);
    return () => {
      watch.disconnect();
      field?.dispose();
      made.dispose();
      desk.viewport = null;
    };
  });

  let particleElements = $derived(shot.elements.some((e) => "particles" in e.kind));
  $effect(() => {
    if (viewport && !performing.frame) staged.ask(playback.frame);
  });

  $effect(() => {
    const document = values.document;
    if (viewport && shot.id !== null && document) viewport.setShot(shot.id, document, playback.frame);
  });

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    const frame = playback.frame;
    const { ghost, ghostFrame } = playback;
    const now = staged.now?.frame ?? null;
    const revision = staged.now?.revision ?? 0;
    if (!viewport || run === undefined) return;
    const made = viewport;
    made.performing = performing.on;
    if (performing.frame) return void made.setFrames(performing.frame, performing.frame, null);
    // At its first frame the shot stands as it is staged, unless it begins from a frame; only
    // particles may be there already.
    const { backwards } = playback;
    const source = playback.source(frame);
    const begins = shot.document?.initial_state != null;
    const first = !begins && !backwards && !playback.finished && frame === playback.first;
    const there = playback.stateOf(source) !== "missing" && (!first || particleElements);
    const { part } = shown;
    const told = (a: ViewportFrame | null) => (first ? a?.withoutBodies() : backwards ? a?.backwards() : a);
    // What is measured of a liquid is of its particles, as they were computed.
    const asComputed = colouring.is("liquid") && liquids.length > 0;
    const wanted = there ? playback.fetch(run, source, !asComputed, part).then(told) : null;
    const computed = ghostFrame === null ? null : playback.fetch(run, ghostFrame, false, part);
    const other = ghost === null ? computed : playback.fetch(ghost, source, true, part).then(told);
    void Promise.all([wanted, other]).then(([a, b]) => {
      if (frame !== playback.frame) return;
      arrangedRevision = revision;
      const { oneParticleOf = 1, coarseMeshes = 0 } = a ?? {};
      shown.thinning = { oneParticleOf, coarseMeshes };
      if (!made.setFrames(a ?? null, now, b ?? null)) drawnRevision = revision;
      arranged++;
      desk.arranged = staged.isOf(frame) ? frame : null;
    });
  });

  $effect(() => {
    void judging.all;
    viewport?.setJudging((element) => judging.of(element));
  });
  $effect(() => viewport?.setSelection(selection.ids.filter(stands), [...selection.solo], desk.handle));
  $effect(() => viewport?.setView(desk.view));
  $effect(() => viewport?.setSnap(desk.step, desk.floor));
  $effect(() => viewport?.setCollision(desk.collision));

  // The points of a selected curve; the one being drawn ends with its selection.
  $effect(() => {
    const element = shot.selected;
    const points = element ? pointsOf(values.now(element)) : null;
    if (desk.drawing && desk.drawing.id !== element?.id) desk.drawing = null;
    const drawing = desk.drawing !== null;
    viewport?.setCurve(element && points && !element.locked ? { id: element.id, points, drawing } : null);
  });

  // Arrows and dots follow the frame and every change.
  let field: ForceView | null = null;
  $effect(() => {
    void arranged;
    if (!viewport) return;
    field ??= new ForceView(viewport);
    const region = shot.selected && "region" in shot.selected.kind ? shot.selected.id : null;
    field.show({
      shot: shot.id,
      revision: shot.state?.revision ?? 0,
      frame: playback.frame,
      arrows: desk.probe,
      tracers: desk.tracers,
      region,
      tried: values.tried,
    });
  });

  // What deforms is coloured by what is measured on it at the frame shown, or by the layers of its look.
  let deforming = $derived(shot.elements.filter(deforms).map((element) => element.id));
  let layered = $derived(
    shot.elements
      .filter((element) => deforms(element) && (solidOf(element)?.look?.layers ?? []).length > 0)
      .map((element) => element.id),
  );
  let liquids = $derived(
    shot.elements.filter((element) => particlesOf(element)?.liquid != null).map((element) => element.id),
  );
  let coloured = $derived<Coloured[]>([
    ...(deforming.length > 0 ? (["surface"] as const) : []),
    ...(liquids.length > 0 ? (["liquid"] as const) : []),
  ]);
  $effect(() => {
    void arranged;
    const made = viewport;
    const { quantity } = colouring;
    const run = playback.freshness?.run;
    if (!made) return;
    if (run === undefined || !colouring.is("liquid") || colouring.top === null || liquids.length === 0)
      return made.setMeasured(null);
    const frame = playback.frame;
    void colouring.particles(run, playback.source(frame), liquids).then((found) => {
      if (frame === playback.frame && quantity === colouring.quantity) made.setMeasured(found);
    });
  });
  $effect(() => viewport?.setCut(desk.cut));
  $effect(() => {
    void arranged;
    const made = viewport;
    const { top, quantity } = colouring;
    const run = playback.freshness?.run;
    if (!made || painting.shown) return;
    const frame = playback.frame;
    // Layers of looks are shown at rest: while it plays, frames would wait for them.
    const hold = playback.running || playback.stateOf(frame) === "missing";
    if (run === undefined || (top === null && (layered.length === 0 || hold))) return made.setColours(null);
    if (top === null) {
      void colouring.looks(run, playback.source(frame), layered).then((found) => {
        if (frame === playback.frame && !colouring.quantity) made.setColours(found);
      });
      return;
    }
    void colouring.values(run, playback.source(frame), deforming).then((found) => {
      if (frame !== playback.frame || quantity !== colouring.quantity) return;
      made.setColours(new Map([...found].map(([id, values]) => [id, coloursOf(values, top)])));
    });
  });

  let soft = $derived(
    shot.elements.filter((element) => solidOf(element)?.soft != null).map((element) => element.id),
  );
  $effect(() => {
    void arranged;
    const made = viewport;
    const run = playback.freshness?.run;
    const frame = playback.frame;
    const there = playback.stateOf(frame) !== "missing";
    const wanted = colouring.interior && there && run !== undefined && soft.length > 0;
    if (!made) return;
    if (!wanted) return made.setInterior(null);
    void colouring.cells(run, playback.source(frame), soft).then((cells) => {
      if (frame === playback.frame) made.setInterior(cells);
    });
  });

  $effect(() => {
    void arranged;
    const solids = selection.ids.filter((id) => solidOf(shot.element(id)));
    viewport?.setChecker(colouring.checker && solids.length > 0 ? new Set(solids) : null);
  });

  let gate = $derived(
    viewport && shot.document && desk.view === "camera" ? viewport.gate(size.width, size.height) : null,
  );

  async function drop(event: DragEvent) {
    event.preventDefault();
    dropping = false;
    const at = viewport?.groundAt(event.clientX, event.clientY);
    await addFiles(event.dataTransfer?.files ?? [], at);
  }
</script>

<section
  class="relative min-h-0 overflow-hidden"
  aria-label="Viewport"
  bind:this={box}
  ondragover={(event) => {
    event.preventDefault();
    dropping = true;
  }}
  ondragleave={() => (dropping = false)}
  ondrop={drop}
>
  <canvas
    bind:this={canvas}
    class="block h-full w-full"
    data-drawn={drawn}
    data-revision={drawnRevision}
    aria-label="The shot in 3D"
    tabindex="-1"
  ></canvas>
  {#if gate}
    <div class="pointer-events-none absolute inset-0 overflow-hidden" aria-hidden="true">
      <div
        class="absolute"
        style:left={`${gate.x}px`}
        style:top={`${gate.y}px`}
        style:width={`${gate.width}px`}
        style:height={`${gate.height}px`}
        style:box-shadow="0 0 0 2000px rgb(18 24 26 / 0.62)"
      ></div>
    </div>
  {/if}
  <ViewportTools />
  <Reading />
  {#if coloured.length > 0 || painting.shown}<Legend of={coloured} />{/if}
  {#if desk.cut}<CutBar />{/if}
  {#if viewport}<MapView {viewport} {arranged} />{/if}
  {#if dropping}
    <div
      class="pointer-events-none absolute inset-2 grid place-items-center rounded-xl border-2 border-dashed border-lime bg-black/40 text-[16px]"
    >
      Let go to take in the file
    </div>
  {/if}
</section>
