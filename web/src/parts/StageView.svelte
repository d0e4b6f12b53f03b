<script lang="ts">
  import Boxes from "@lucide/svelte/icons/boxes";
  import ArrowDownToLine from "@lucide/svelte/icons/arrow-down-to-line";
  import Grid from "@lucide/svelte/icons/grid-3x3";
  import Move from "@lucide/svelte/icons/move-3d";
  import Rotate from "@lucide/svelte/icons/rotate-3d";
  import Scan from "@lucide/svelte/icons/scan-search";
  import { onMount } from "svelte";
  import { api, type MeasuredRun } from "../api/client";
  import { decodeFrame, type StageFrame } from "../stage/frames";
  import { Stage, type ViewName } from "../stage/Stage";
  import AddMenu from "./AddMenu.svelte";
  import { addFile } from "../state/adding";
  import { commands } from "../state/commands.svelte";
  import { desk } from "../state/desk.svelte";
  import { notices } from "../state/notices.svelte";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  let canvas: HTMLCanvasElement;
  let box: HTMLElement;
  let stage = $state.raw<Stage | null>(null);
  let size = $state({ width: 0, height: 0 });
  let drawn = $state(0);
  let dropping = $state(false);
  let measured = $state.raw<MeasuredRun | null>(null);
  let staged = $state.raw<{ key: string; frame: StageFrame } | null>(null);

  onMount(() => {
    const made = new Stage(canvas, {
      pick: (element, add) => {
        if (element === null) selection.none();
        else if (add) selection.toggle(element);
        else selection.only(element);
      },
      moved: (element, place, turn) => void moved(element, place, turn),
      drawn: () => drawn++,
    });
    stage = made;
    desk.stage = made;
    const watch = new ResizeObserver(() => {
      size = { width: box.clientWidth, height: box.clientHeight };
      made.resize(size.width, size.height, Math.min(1.5, devicePixelRatio));
    });
    watch.observe(box);
    return () => {
      watch.disconnect();
      made.dispose();
      desk.stage = null;
    };
  });

  async function moved(id: number, place: [number, number, number], turn: [number, number, number]) {
    const element = shot.element(id);
    if (!element) return;
    const round = (v: number) => Number(v.toFixed(4));
    const { place_m, turn_rad } = element.placement;
    await shot.edit(`${element.name} ${desk.handle === "turn" ? "turned" : "moved"}`, (document) => {
      const index = document.elements.findIndex((e) => e.id === id);
      const path = `/elements/${index}/placement`;
      const now = { place_m: place.map(round), turn_rad: turn.map(round) };
      return (["place_m", "turn_rad"] as const).map((part) => ({
        op: "add" as const,
        path: `${path}/${part}`,
        value: keyedAt(part === "place_m" ? place_m : turn_rad, playback.frame, now[part]),
      }));
    });
  }

  /** A keyed value gets a key at the frame; a constant one the new value. */
  function keyedAt(param: unknown, frame: number, value: number[]) {
    if (Array.isArray(param)) return value;
    const keys = (param as { keys: { frame: number }[] }).keys.filter((key) => key.frame !== frame);
    return { keys: [...keys, { frame, value }].sort((a, b) => a.frame - b.frame) };
  }

  // What the document has: asked again when it or, with keyed elements, the frame changes.
  let keyed = $derived(
    shot.elements.some((e) => !Array.isArray(e.placement.place_m) || !Array.isArray(e.placement.turn_rad)),
  );
  $effect(() => {
    const id = shot.id;
    const document = shot.document;
    if (id === null || !document || !stage) return;
    const frame = keyed ? playback.frame : document.timing.first;
    const key = `${id} ${shot.state?.revision} ${frame}`;
    if (staged?.key === key) return;
    void api
      .staged(id, frame)
      .then((buffer) => (staged = { key, frame: decodeFrame(buffer) }))
      .catch(() => undefined);
  });

  $effect(() => {
    if (stage && shot.id !== null && shot.document) stage.setShot(shot.id, shot.document);
  });

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    const frame = playback.frame;
    const ghost = playback.ghost;
    const now = staged?.frame ?? null;
    if (!stage || run === undefined) return;
    const made = stage;
    // At its first frame the shot stands as it is staged.
    const wanted =
      frame === playback.first || playback.stateOf(frame) === "missing" ? null : playback.fetch(run, frame);
    const other = ghost === null ? null : playback.fetch(ghost, frame);
    void Promise.all([wanted, other]).then(([a, b]) => {
      if (frame === playback.frame) made.setFrames(a ?? null, now, b ?? null);
    });
  });

  $effect(() => stage?.setSelection([...selection.ids], [...selection.solo], desk.handle));
  $effect(() => stage?.setView(desk.view));
  $effect(() => stage?.setSnap(desk.snap));
  $effect(() => {
    if (!stage) return;
    stage.showCollision = desk.collision;
    stage.setSelection([...selection.ids], [...selection.solo], desk.handle);
  });

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    if (run !== undefined && !playback.running && !playback.computing)
      void api
        .measured(run)
        .then((m) => (measured = m))
        .catch(() => undefined);
  });

  let gate = $derived.by(() => {
    return stage && shot.document && desk.view === "camera" ? stage.gate(size.width, size.height) : null;
  });

  let reading = $derived.by(() => {
    const state = playback.stateOf(playback.frame);
    const at = measured?.frames.indexOf(playback.frame) ?? -1;
    const words = [`frame ${playback.frame}`];
    if (playback.frame !== playback.first)
      words.push(state === "fresh" ? "computed" : state === "stale" ? "stale" : "not computed yet");
    if (measured && at >= 0 && state !== "missing") {
      words.push(`${measured.contacts[at]} contacts`);
      words.push(`deepest overlap ${(1e3 * measured.deepest_overlap_m[at]).toFixed(1)} mm`);
      const fastest = shot.element(measured.fastest[at]);
      if (fastest) words.push(`fastest ${fastest.name}, ${measured.fastest_m_s[at].toFixed(1)} m/s`);
      words.push(`energy ${Math.round(measured.kinetic_j[at] + measured.potential_j[at])} J`);
    }
    return words.join(" · ");
  });

  let views = $derived<[ViewName, string][]>([
    ["camera", shot.elements.find((e) => e.id === shot.document?.camera)?.name ?? "Camera"],
    ["free", "Free"],
    ["top", "Top"],
    ["front", "Front"],
    ["side", "Side"],
  ]);

  async function drop(event: DragEvent) {
    event.preventDefault();
    dropping = false;
    const at = stage?.floorAt(event.clientX, event.clientY);
    for (const file of event.dataTransfer?.files ?? []) await addFile(file, at);
  }

  function run(name: string) {
    const command = commands.list.find((command) => command.name === name)!;
    if (commands.can(command)) command.run();
    else notices.say("Select an element first.");
  }
</script>

<section
  class="relative min-h-0 overflow-hidden"
  aria-label="Stage"
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
  <div class="absolute top-2.5 left-3 flex gap-1" role="group" aria-label="View">
    {#each views as [key, name] (key)}
      <button
        class="rounded-full bg-[#12181ae0] px-2.5 py-[3px] text-[#c3d0ce] aria-pressed:text-white aria-pressed:outline aria-pressed:outline-[#8fa3a1]"
        aria-pressed={desk.view === key}
        onclick={() => (desk.view = key)}>{name}</button
      >
    {/each}
  </div>
  <div
    class="absolute top-2.5 right-3 grid gap-1"
    role="toolbar"
    aria-label="Stage tools"
    aria-orientation="vertical"
  >
    <AddMenu />
    {#each [{ name: "Move handles", key: "M", icon: Move, on: desk.handle === "move" }, { name: "Turn handles", key: "T", icon: Rotate, on: desk.handle === "turn" }, { name: "Drop to rest", key: "Shift+D", icon: ArrowDownToLine, on: false }, { name: "Look at the selection", key: "L", icon: Scan, on: false }, { name: "Show collision shapes", key: "C", icon: Boxes, on: desk.collision }] as tool (tool.name)}
      <button
        class="grid h-7 w-7 place-items-center rounded-lg bg-[#12181ae0] text-[#c3d0ce] aria-pressed:bg-[#c9f26b] aria-pressed:text-[#17200a]"
        aria-label={tool.name}
        aria-pressed={tool.on}
        title={`${tool.name} (${tool.key})`}
        onclick={() => run(tool.name)}><tool.icon size={15} /></button
      >
    {/each}
    <button
      class="grid h-7 w-7 place-items-center rounded-lg bg-[#12181ae0] text-[#c3d0ce] aria-pressed:bg-[#c9f26b] aria-pressed:text-[#17200a]"
      aria-label="Snap to 0.1 m steps"
      aria-pressed={desk.snap !== null}
      title="Snap to 0.1 m steps"
      onclick={() => (desk.snap = desk.snap === null ? 0.1 : null)}><Grid size={15} /></button
    >
  </div>
  <p
    class="pointer-events-none absolute bottom-2 left-3 rounded bg-[#12181ab8] px-2 py-0.5 text-[#d5dedc]"
    data-testid="reading"
  >
    {reading}
  </p>
  {#if dropping}
    <div
      class="pointer-events-none absolute inset-2 grid place-items-center rounded-xl border-2 border-dashed border-lime bg-black/40 text-[16px]"
    >
      Let go to take in the file
    </div>
  {/if}
</section>
