<script lang="ts">
  // How many particles there are along the run, how many were born and how many went.
  import type { Element } from "../api/client";
  import { measured } from "../state/measured.svelte";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";

  interface Props {
    element: Element;
    colour: string;
    scrub: (event: PointerEvent) => void;
  }
  let { element, colour, scrub }: Props = $props();

  const HEIGHT = 66;
  const MIDDLE = 34;
  let turnover = $derived(measured.turnover(element.id));
  let frames = $derived(measured.run?.frames ?? []);
  // Finished frames are others than those that were measured.
  let now = $derived(playback.finished ? -1 : measured.at(playback.source(playback.frame)));
  let most = $derived(Math.max(1, ...(turnover?.alive ?? [])));
  let busiest = $derived(Math.max(1, ...(turnover?.born ?? []).slice(1), ...(turnover?.gone ?? []).slice(1)));
  let line = $derived(
    (turnover?.alive ?? [])
      .map((alive, i) => `${10 * lanes.at(frames[i])},${HEIGHT - 6 - ((HEIGHT - 14) * alive) / most}`)
      .join(" "),
  );
  const count = (list: number[] | undefined) => (list?.[now] ?? 0).toLocaleString("en");
</script>

<div class="grid grid-cols-[206px_1fr] border-b border-line/40" style:height={`${HEIGHT}px`}>
  <div class="pt-1.5 pl-[26px] text-[12px] leading-[17px]">
    <p class="flex justify-between pr-2">
      Alive <b class="font-semibold" data-testid="alive">{now < 0 ? "" : count(turnover?.alive)}</b>
    </p>
    <p class="flex justify-between pr-2 text-aqua">
      Born <span>{now < 0 ? "" : count(turnover?.born)}</span>
    </p>
    <p class="flex justify-between pr-2 text-coral">
      Gone <span>{now < 0 ? "" : count(turnover?.gone)}</span>
    </p>
  </div>
  <div class="relative cursor-ew-resize" onpointerdown={scrub} role="presentation">
    <svg
      class="absolute inset-0 h-full w-full"
      viewBox={`0 0 1000 ${HEIGHT}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={turnover
        ? `Up to ${most} particles, at most ${busiest} born or gone in a frame`
        : "Not computed yet"}
    >
      {#if turnover}
        {#each frames as frame, i (frame)}
          {#if i > 0}
            {@const born = ((MIDDLE - 4) * turnover.born[i]) / busiest}
            {@const gone = ((MIDDLE - 6) * turnover.gone[i]) / busiest}
            <rect
              x={10 * lanes.at(frame) - 2.5}
              y={MIDDLE - born}
              width="5"
              height={born}
              fill="var(--aqua)"
              opacity="0.55"
            />
            <rect
              x={10 * lanes.at(frame) - 2.5}
              y={MIDDLE}
              width="5"
              height={gone}
              fill="var(--coral)"
              opacity="0.55"
            />
          {/if}
        {/each}
        <polyline
          points={line}
          fill="none"
          stroke={colour}
          stroke-width="1.8"
          vector-effect="non-scaling-stroke"
        />
      {/if}
    </svg>
  </div>
</div>
