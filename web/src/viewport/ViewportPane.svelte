<script lang="ts">
  import { onMount } from "svelte";
  import Reading from "./Reading.svelte";
  import ViewportTools from "./ViewportTools.svelte";
  import { api, type Element, type Operation, type Shot, type Vector } from "../api/client";
  import { decodeFrame, type ViewportFrame } from "./frames";
  import type { Moved } from "./handles";
  import { ForceView } from "./forces";
  import { Viewport } from "./Viewport";
  import { addFiles } from "../state/adding";
  import { desk } from "../state/desk.svelte";
  import { relative } from "../state/attaching";
  import { judging } from "../state/judging.svelte";
  import { keysOf, channelsOf, withKey } from "../state/keys";
  import { performing } from "../state/performing.svelte";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";
  import { channelOperations, values } from "../state/values.svelte";

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
  let staged = $state.raw<{ key: string; revision: number; frame: ViewportFrame } | null>(null);

  onMount(() => {
    const made = new Viewport(canvas, {
      pick: (element, add) => {
        if (element === null) selection.none();
        else if (add) selection.toggle(element);
        else selection.only(element);
      },
      moved: (list) => {
        if (performing.on) performing.drop(list.map(({ id }) => id));
        else void moved(list);
      },
      moving: (list) => {
        if (performing.on) performing.move(desk.handle, list);
      },
      curveMoved: (id, points) => {
        const element = shot.element(id);
        const before = element ? pointsOf(values.now(element)) : null;
        const i = points.findIndex((point, i) => String(point) !== String(before?.[i]));
        if (!element || i < 0) return;
        const path = `kind.curve.points.points_m.${i}`;
        void values.set({ element, ids: [id], path }, `Point ${i + 1}`, points[i]);
      },
      curveDrawn: (points) => {
        if (desk.drawing) desk.drawing = { ...desk.drawing, points };
      },
      drawn: () => {
        drawn++;
        drawnRevision = arrangedRevision;
      },
    });
    viewport = made;
    desk.viewport = made;
    const watch = new ResizeObserver(() => {
      size = { width: box.clientWidth, height: box.clientHeight };
      made.resize(size.width, size.height, Math.min(1.5, devicePixelRatio));
    });
    watch.observe(box);
    return () => {
      watch.disconnect();
      made.dispose();
      desk.viewport = null;
    };
  });

  function moved(list: Moved[]) {
    const first = shot.element(list[list.length - 1].id)?.name;
    const rest = list.length > 1 ? ` and ${list.length - 1} more` : "";
    return shot.edit(`${first}${rest} ${desk.handle === "turn" ? "turned" : "moved"}`, (document) =>
      list.flatMap((to) => placed(document, to)),
    );
  }

  function pointsOf({ kind }: Element): Vector[] | null {
    return "curve" in kind && "points" in kind.curve ? (kind.curve.points.points_m as Vector[]) : null;
  }

  /** The operations that put an element where its handle was let go. */
  function placed(document: Shot, { id, place, turn }: Moved): Operation[] {
    const index = document.elements.findIndex((e) => e.id === id);
    if (index < 0) return [];
    const element = document.elements[index];
    const now = values.now(element).placement ?? {};
    const world = staged?.frame.get(id);
    let next = { position_m: place, orientation_rad: turn };
    if (element.attached && world) next = relative(now, world, next);
    return (["position_m", "orientation_rad"] as const).flatMap((part): Operation[] => {
      const value = next[part].map((v) => Number(v.toFixed(4))) as Vector;
      const path = `placement.${part}`;
      const channel = channelsOf(element)[path];
      return keysOf(channel).length > 0
        ? channelOperations(document, id, path, withKey(channel, playback.frame, value))
        : [{ op: "add", path: `/elements/${index}/placement/${part}`, value }];
    });
  }

  // What the document has: asked again when it or, with keyed elements, the frame changes.
  // What goes with bodies or looks at them stands where a run has those.
  let follows = $derived(shot.elements.some((e) => !("solid" in e.kind) && (e.aim || e.attached)));
  let particleElements = $derived(shot.elements.some((e) => "particles" in e.kind));
  let keyed = $derived(shot.elements.some((e) => Object.keys(channelsOf(e)).length > 0));
  $effect(() => {
    const id = shot.id;
    const document = shot.document;
    if (id === null || !document || !viewport || performing.frame) return;
    const frame = keyed || follows ? playback.frame : document.timing.first;
    const revision = shot.state?.revision ?? 0;
    const key = `${id} ${revision} ${frame} ${follows ? playback.changes : ""}`;
    if (staged?.key === key) return;
    void api
      .staged(id, frame)
      .then((buffer) => (staged = { key, revision, frame: decodeFrame(buffer) }))
      .catch(() => undefined);
  });

  $effect(() => {
    const document = values.document;
    if (viewport && shot.id !== null && document) viewport.setShot(shot.id, document, playback.frame);
  });

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    const frame = playback.frame;
    const ghost = playback.ghost;
    const now = staged?.frame ?? null;
    const revision = staged?.revision ?? 0;
    if (!viewport || run === undefined) return;
    const made = viewport;
    made.performing = performing.on;
    if (performing.frame) return void made.setFrames(performing.frame, performing.frame, null);
    // At its first frame the shot stands as it is staged; only particles may be there already.
    const { backwards } = playback;
    const source = playback.source(frame);
    const first = !backwards && frame === playback.first;
    const there = playback.stateOf(source) !== "missing" && (!first || particleElements);
    const shown = (a: ViewportFrame | null) => (first ? a?.onlyParticles() : backwards ? a?.backwards() : a);
    const wanted = there ? playback.fetch(run, source).then(shown) : null;
    const other = ghost === null ? null : playback.fetch(ghost, source).then(shown);
    void Promise.all([wanted, other]).then(([a, b]) => {
      if (frame !== playback.frame) return;
      arrangedRevision = revision;
      if (!made.setFrames(a ?? null, now, b ?? null)) drawnRevision = revision;
      arranged++;
    });
  });

  $effect(() => {
    void judging.all;
    viewport?.setJudging((element) => judging.of(element));
  });
  $effect(() => viewport?.setSelection([...selection.ids], [...selection.solo], desk.handle));
  $effect(() => viewport?.setView(desk.view));
  $effect(() => viewport?.setSnap(desk.step, desk.floor));
  $effect(() => {
    if (!viewport) return;
    viewport.showCollision = desk.collision;
    viewport.setSelection([...selection.ids], [...selection.solo], desk.handle);
  });

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

  let gate = $derived.by(() => {
    return viewport && shot.document && desk.view === "camera"
      ? viewport.gate(size.width, size.height)
      : null;
  });

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
  {#if dropping}
    <div
      class="pointer-events-none absolute inset-2 grid place-items-center rounded-xl border-2 border-dashed border-lime bg-black/40 text-[16px]"
    >
      Let go to take in the file
    </div>
  {/if}
</section>
