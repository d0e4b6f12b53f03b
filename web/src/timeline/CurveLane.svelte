<script lang="ts">
  import { api, type Element, type Schemas } from "../api/client";
  import KeyMarks from "./KeyMarks.svelte";
  import CurvePlot from "./CurvePlot.svelte";
  import CurveReadings from "./CurveReadings.svelte";
  import { dragged, handleOf, partsOf, type Grip } from "./grips";
  import { nameOf } from "../state/channels";
  import { keysOf, channelsOf, withChange, type Channel, type Key } from "../state/keys";
  import { marks } from "../state/marks.svelte";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";
  import { shot } from "../state/shot.svelte";
  import { channelOperations } from "../state/values.svelte";

  interface Props {
    element: Element;
    path: string;
    channel: Channel;
    scrub: (event: PointerEvent) => void;
  }
  /** A value over time as a curve, with its keys and handles to be dragged. */
  let { element, path, channel, scrub }: Props = $props();

  const HEIGHT = 84;
  /** Room above the curve, and below it for the keys' marks. */
  const [TOP, BOTTOM] = [10, 22];
  let angle = $derived(/_rad(\[\d\])?$/.test(path));
  let scale = $derived(angle ? 180 / Math.PI : 1);
  /** The channel while a key is dragged, before it is saved. */
  let tried = $state.raw<Channel | null>(null);
  let shown = $derived(tried ?? channel);
  let keys = $derived(keysOf(shown));
  let samples = $state.raw<Schemas["Samples"] | null>(null);
  let asked = 0;

  $effect(() => {
    void shot.state?.revision;
    const id = shot.id;
    const [from, to] = [playback.first, playback.end];
    const trial = tried;
    if (id === null || to <= from) return;
    const turn = ++asked;
    const count = Math.min(600, 4 * (to - from) + 1);
    void api
      .sample(id, { element: element.id, path, from, to, count, channel: (trial ?? undefined) as never })
      .then((found) => turn === asked && (samples = found))
      .catch(() => undefined);
  });

  let range = $derived.by<[number, number]>(() => {
    const all = [...(samples?.parts.flat() ?? []), ...keys.flatMap((key) => partsOf(key.value))];
    if (all.length === 0) return [0, 1];
    let [low, high] = [Math.min(...all), Math.max(...all)];
    if (high - low < 1e-6) [low, high] = [low - 0.5, high + 0.5];
    return [low, high];
  });
  // While a key is dragged the scale stays.
  let held = $state.raw<[number, number] | null>(null);
  let [low, high] = $derived(held ?? range);
  const y = (value: number) => HEIGHT - BOTTOM - ((value - low) / (high - low)) * (HEIGHT - TOP - BOTTOM);
  let lines = $derived(
    (samples?.parts ?? []).map((values) =>
      values.map((value, i) => `${lanes.at(samples!.frames[i]).toFixed(2)},${y(value).toFixed(1)}`).join(" "),
    ),
  );
  let own = $derived(
    marks.list.filter((m) => m.element === element.id && (m.path === path || m.path === null)),
  );
  let chosen = $derived(own.length === 1 ? keys.findIndex((key) => key.frame === own[0].frame) : -1);

  /** Change of the value a second at the frame shown. */
  let speed = $derived.by(() => {
    const found = samples;
    if (!found || found.frames.length < 2) return null;
    const i = Math.max(
      1,
      found.frames.findIndex((frame) => frame >= playback.frame),
    );
    const seconds = (found.frames[i] - found.frames[i - 1]) / (shot.document?.timing.fps ?? 24);
    return Math.hypot(...found.parts.map((values) => (values[i] - values[i - 1]) / seconds));
  });

  function save(next: Channel, label: string) {
    return shot.edit(`${label} of ${element.name}`, (document) =>
      channelOperations(document, element.id, path, next),
    );
  }

  async function change(index: number, change: Partial<Key>) {
    const current = channelsOf(shot.element(element.id))[path];
    await save(withChange(current, index, change), `${nameOf(path)} keyed`);
    if (change.frame !== undefined) marks.pick({ element: element.id, path, frame: change.frame }, false);
  }

  function drag(event: PointerEvent & { currentTarget: SVGElement }, grip: Grip) {
    if (event.button !== 0) return;
    event.stopPropagation();
    const begin = channel;
    const { frame } = keysOf(begin)[grip.key];
    if (!grip.side) marks.pick({ element: element.id, path, frame }, event.shiftKey);
    const { width } = event.currentTarget.ownerSVGElement!.getBoundingClientRect();
    const [x, top] = [event.clientX, event.clientY];
    const perPixel = (high - low) / (HEIGHT - TOP - BOTTOM);
    held = [low, high];
    const moved = (e: PointerEvent) =>
      dragged(begin, grip, (e.clientX - x) * lanes.perPixel(width), (top - e.clientY) * perPixel);
    const move = (e: PointerEvent) => (tried = moved(e));
    const done = async (e: PointerEvent) => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
      const next = moved(e);
      if (Math.hypot(e.clientX - x, e.clientY - top) > 2) {
        await save(next, `${nameOf(path)} keyed`);
        const frame = keysOf(next)[grip.key]?.frame;
        if (!grip.side && frame !== undefined) marks.list = [{ element: element.id, path, frame }];
      }
      tried = null;
      held = null;
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
  }

  let handles = $derived(
    keys.flatMap((key, i) =>
      (["outgoing", "incoming"] as const).flatMap((side) => {
        const handle = handleOf(keys, i, side);
        if (!handle) return [];
        const frame = key.frame + (side === "outgoing" ? handle.frames : -handle.frames);
        return partsOf(key.value).map((value, part) => ({
          key: i,
          side,
          part,
          from: [lanes.at(key.frame), y(value)] as [number, number],
          to: [lanes.at(frame), y(value + partsOf(handle.value)[part])] as [number, number],
        }));
      }),
    ),
  );
</script>

<div class="grid grid-cols-[206px_1fr] border-b border-line/40" style:height={`${HEIGHT}px`}>
  <CurveReadings
    {path}
    {channel}
    chosen={keys[chosen]}
    range={[low, high]}
    {speed}
    {scale}
    unit={angle ? "°" : ""}
    onchange={(by) => change(chosen, by)}
  />
  <div
    class="relative cursor-ew-resize overflow-hidden bg-ground/40"
    onpointerdown={scrub}
    role="presentation"
  >
    <CurvePlot {lines} {keys} {handles} {chosen} height={HEIGHT} {y} ondrag={drag} />
    <div class="absolute right-0 bottom-0 left-0 h-[12px]">
      <KeyMarks
        element={element.id}
        name={`${nameOf(path).toLowerCase()} of ${element.name}`}
        {path}
        frames={keys.map((k) => k.frame).filter((frame) => frame >= playback.first && frame <= playback.end)}
      />
    </div>
  </div>
</div>
