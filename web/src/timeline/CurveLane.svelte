<script lang="ts">
  import { api, type Element, type Schemas } from "../api/client";
  import KeyMarks from "./KeyMarks.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import { nameOf } from "../state/channels";
  import { keysOf, channelsOf, withChange, type Channel, type Key, type Value } from "../state/keys";
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
  const COLOURS = ["var(--coral)", "var(--aqua)", "var(--force)"];
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
    const [from, to] = [playback.first, playback.last];
    const trial = tried;
    if (id === null || to <= from) return;
    const turn = ++asked;
    const count = Math.min(600, 4 * (to - from) + 1);
    void api
      .sample(id, { element: element.id, path, from, to, count, channel: (trial ?? undefined) as never })
      .then((found) => turn === asked && (samples = found))
      .catch(() => undefined);
  });

  const partsOf = (value: Value): number[] => (Array.isArray(value) ? value : [Number(value)]);
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
    return Math.hypot(...found.parts.map((values) => (values[i] - values[i - 1]) / seconds)) * scale;
  });

  function save(next: Channel, label: string) {
    return shot.edit(`${label} of ${element.name}`, (document) =>
      channelOperations(document, element.id, path, next),
    );
  }

  function change(index: number, with_: Partial<Key>) {
    const current = channelsOf(shot.element(element.id))[path];
    return save(withChange(current, index, with_), `${nameOf(path)} keyed`);
  }

  type Grip = { key: number; part: number; handle?: "outgoing" | "incoming" };

  function drag(event: PointerEvent & { currentTarget: SVGElement }, grip: Grip) {
    if (event.button !== 0) return;
    event.stopPropagation();
    const begin = channel;
    const key = keysOf(begin)[grip.key];
    if (!grip.handle) marks.pick({ element: element.id, path, frame: key.frame }, event.shiftKey);
    const box = event.currentTarget.ownerSVGElement!.getBoundingClientRect();
    const [x, top] = [event.clientX, event.clientY];
    held = [low, high];
    const moved = (e: PointerEvent): Channel => {
      const frames = (e.clientX - x) * lanes.perPixel(box.width);
      const by = (-(e.clientY - top) / (HEIGHT - TOP - BOTTOM)) * (high - low);
      if (grip.handle) {
        const old = handleOf(keysOf(begin), grip.key, grip.handle)!;
        const away = Math.max(0, old.frames + (grip.handle === "outgoing" ? frames : -frames));
        const parts = partsOf(old.value).map((v, i) => (i === grip.part ? v + by : v));
        const next = { frames: away, value: Array.isArray(old.value) ? parts : parts[0] };
        return withChange(begin, grip.key, { [grip.handle]: next } as Partial<Key>);
      }
      const value = partsOf(key.value).map((v, i) => (i === grip.part ? v + by : v));
      const rounded = value.map((v) => Number(v.toFixed(4)));
      return withChange(begin, grip.key, {
        frame: Math.round(key.frame + frames),
        value: (Array.isArray(key.value)
          ? rounded
          : typeof key.value === "boolean"
            ? key.value
            : rounded[0]) as Value,
      });
    };
    const move = (e: PointerEvent) => (tried = moved(e));
    const done = async (e: PointerEvent) => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
      const next = moved(e);
      if (Math.hypot(e.clientX - x, e.clientY - top) > 2) {
        await save(next, `${nameOf(path)} keyed`);
        const frame = keysOf(next)[grip.key]?.frame;
        if (!grip.handle && frame !== undefined) marks.list = [{ element: element.id, path, frame }];
      }
      tried = null;
      held = null;
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
  }

  /** A key's handle, or where it is as long as none is set: a third of the way. */
  function handleOf(keys: Key[], index: number, side: "outgoing" | "incoming") {
    const [from, to] = side === "outgoing" ? [keys[index], keys[index + 1]] : [keys[index - 1], keys[index]];
    if (!from || !to || from.interpolation !== "free") return null;
    const own = side === "outgoing" ? from.outgoing : to.incoming;
    if (own) return own;
    const sign = side === "outgoing" ? 1 : -1;
    const by = partsOf(to.value).map((v, i) => (sign * (v - partsOf(from.value)[i])) / 3);
    return { frames: (to.frame - from.frame) / 3, value: Array.isArray(to.value) ? by : by[0] };
  }

  let grips = $derived(
    keys.flatMap((key, i) =>
      (["outgoing", "incoming"] as const).flatMap((side) => {
        const handle = handleOf(keys, i, side);
        if (!handle) return [];
        const frame = key.frame + (side === "outgoing" ? handle.frames : -handle.frames);
        return partsOf(key.value).map((value, part) => ({
          key: i,
          side,
          part,
          from: [lanes.at(key.frame), y(value)],
          to: [lanes.at(frame), y(value + partsOf(handle.value as Value)[part])],
        }));
      }),
    ),
  );
  const round = (v: number) => Number((v * scale).toPrecision(4));
</script>

<div class="grid grid-cols-[206px_1fr] border-b border-line/40" style:height={`${HEIGHT}px`}>
  <div class="relative min-w-0 overflow-hidden py-1.5 pr-2 pl-[26px] text-[12px]">
    <small class="absolute top-0.5 right-1.5 text-[10px] text-faint">{round(high)}</small>
    <small class="absolute right-1.5 bottom-0.5 text-[10px] text-faint">{round(low)}</small>
    <p class="mr-6 truncate">{nameOf(path)} <small class="text-faint">{angle ? "°" : ""}</small></p>
    {#if channel.expression != null}
      <p class="truncate text-aqua" title={channel.expression}>= {channel.expression}</p>
    {:else if chosen >= 0}
      {@const key = keys[chosen]}
      <div class="mt-0.5 mr-6 grid grid-cols-4 gap-1">
        <NumberField
          bare
          label={`Frame of this ${nameOf(path).toLowerCase()} key`}
          step={1}
          value={key.frame}
          oncommit={(frame) =>
            change(chosen, { frame }).then(() => marks.pick({ element: element.id, path, frame }, false))}
        />
        {#if typeof key.value !== "boolean"}
          {#each partsOf(key.value) as part, i (i)}
            <NumberField
              bare
              label={`${nameOf(path)}${Array.isArray(key.value) ? ` ${"xyz"[i]}` : ""} at this key`}
              {scale}
              step={0.05}
              value={part}
              oncommit={(v) =>
                change(chosen, { value: (Array.isArray(key.value) ? key.value.with(i, v) : v) as Value })}
            />
          {/each}
        {/if}
      </div>
    {/if}
    {#if speed !== null}<p class="mt-0.5 text-faint">{Number(speed.toPrecision(3))} a second</p>{/if}
  </div>
  <div
    class="relative cursor-ew-resize overflow-hidden bg-ground/40"
    onpointerdown={scrub}
    role="presentation"
  >
    <svg
      class="absolute inset-0 h-full w-full"
      viewBox={`0 0 100 ${HEIGHT}`}
      preserveAspectRatio="none"
      aria-hidden="true"
    >
      {#each lines as points, part (part)}
        <polyline
          {points}
          fill="none"
          stroke={lines.length === 1 ? "var(--ink)" : COLOURS[part]}
          stroke-width="1.5"
          vector-effect="non-scaling-stroke"
        />
      {/each}
      {#each grips as grip (`${grip.key} ${grip.side} ${grip.part}`)}
        <line
          x1={grip.from[0]}
          y1={grip.from[1]}
          x2={grip.to[0]}
          y2={grip.to[1]}
          stroke="var(--soft)"
          vector-effect="non-scaling-stroke"
        />
      {/each}
    </svg>
    <svg class="absolute inset-0 h-full w-full overflow-visible" role="presentation">
      {#each keys as key, i (key.frame)}
        {#each partsOf(key.value) as value, part (part)}
          <circle
            class="cursor-move"
            data-key-frame={key.frame}
            cx={`${lanes.at(key.frame)}%`}
            cy={y(value)}
            r="4.5"
            fill={chosen === i
              ? "var(--lime)"
              : partsOf(key.value).length === 1
                ? "var(--ink)"
                : COLOURS[part]}
            stroke="var(--ground)"
            role="presentation"
            onpointerdown={(event) => drag(event, { key: i, part })}
          />
        {/each}
      {/each}
      {#each grips as grip (`${grip.key} ${grip.side} ${grip.part}`)}
        <rect
          class="cursor-move"
          x={`calc(${grip.to[0]}% - 3.5px)`}
          y={grip.to[1] - 3.5}
          width="7"
          height="7"
          fill="var(--panel)"
          stroke="var(--lime)"
          role="presentation"
          onpointerdown={(event) => drag(event, { key: grip.key, part: grip.part, handle: grip.side })}
        />
      {/each}
    </svg>
    <div class="absolute right-0 bottom-0 left-0 h-[12px]">
      <KeyMarks
        element={element.id}
        name={`${nameOf(path).toLowerCase()} of ${element.name}`}
        {path}
        frames={keys.map((k) => k.frame).filter((frame) => frame >= playback.first && frame <= playback.last)}
      />
    </div>
  </div>
</div>
