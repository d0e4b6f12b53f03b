<script lang="ts">
  // A curve, its keys and their handles, which are dragged.
  import type { Key } from "../state/keys";
  import { lanes } from "../state/scale.svelte";
  import { partsOf, type Grip } from "./grips";

  /** A handle: from its key to its end, each in percent of the width and in pixels from above. */
  type Handle = Grip & { from: [number, number]; to: [number, number] };

  interface Props {
    /** The points of each part of the value, in percent of the width and in pixels from above. */
    lines: string[];
    keys: Key[];
    handles: Handle[];
    /** Index of the key that is chosen, or -1. */
    chosen: number;
    height: number;
    y: (value: number) => number;
    ondrag: (event: PointerEvent & { currentTarget: SVGElement }, grip: Grip) => unknown;
  }
  let { lines, keys, handles, chosen, height, y, ondrag }: Props = $props();
  const COLOURS = ["var(--coral)", "var(--aqua)", "var(--force)"];
</script>

<svg
  class="absolute inset-0 h-full w-full"
  viewBox={`0 0 100 ${height}`}
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
  {#each handles as grip (`${grip.key} ${grip.side} ${grip.part}`)}
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
        fill={chosen === i ? "var(--lime)" : partsOf(key.value).length === 1 ? "var(--ink)" : COLOURS[part]}
        stroke="var(--ground)"
        role="presentation"
        onpointerdown={(event) => ondrag(event, { key: i, part })}
      />
    {/each}
  {/each}
  {#each handles as grip (`${grip.key} ${grip.side} ${grip.part}`)}
    <rect
      class="cursor-move"
      x={`calc(${grip.to[0]}% - 3.5px)`}
      y={grip.to[1] - 3.5}
      width="7"
      height="7"
      fill="var(--panel)"
      stroke="var(--lime)"
      role="presentation"
      onpointerdown={(event) => ondrag(event, grip)}
    />
  {/each}
</svg>
