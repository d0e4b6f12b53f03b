<script lang="ts">
  // What was measured of a liquid along the run: the volume that it kept, and the divergence that is left.
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

  const HEIGHT = 54;
  /** Per cent above and below the whole volume at the edges of the lane. */
  const SPAN = 10;
  let track = $derived(measured.liquid(element.id));
  let frames = $derived(measured.run?.frames ?? []);
  // Finished frames are others than those that were measured.
  let now = $derived(playback.finished ? -1 : measured.at(playback.source(playback.frame)));
  let kept = $derived(track?.volume_kept[now]);
  let left = $derived(track?.divergence_1_s[now]);
  let steps = $derived(track?.steps[now]);
  let values = $derived((track?.volume_kept ?? []).filter((v): v is number => v != null));
  let line = $derived(
    (track?.volume_kept ?? [])
      .flatMap((v, i) => {
        if (v == null) return [];
        const off = Math.max(-SPAN, Math.min(SPAN, 100 * (v - 1)));
        return [`${10 * lanes.at(frames[i])},${HEIGHT * (0.5 - (0.45 * off) / SPAN)}`];
      })
      .join(" "),
  );
  const percent = (v: number) => `${(100 * v).toFixed(1)} %`;
</script>

<div class="grid grid-cols-[206px_1fr] border-b border-line/40" style:height={`${HEIGHT}px`}>
  <div class="pt-1 pl-[26px] text-[12px] leading-[15px]">
    <p class="flex justify-between pr-2">
      Volume kept <b class="font-semibold" data-testid="volume-kept">{kept == null ? "" : percent(kept)}</b>
    </p>
    <p class="flex justify-between pr-2 text-soft">
      Divergence left <span>{left == null ? "" : `${Number(left.toPrecision(2))} /s`}</span>
    </p>
    <p class="flex justify-between pr-2 text-soft">
      Steps in a substep <span>{steps ?? ""}</span>
    </p>
  </div>
  <div class="relative cursor-ew-resize" onpointerdown={scrub} role="presentation">
    <svg
      class="absolute inset-0 h-full w-full"
      viewBox={`0 0 1000 ${HEIGHT}`}
      preserveAspectRatio="none"
      role="img"
      aria-label={values.length
        ? `Volume kept between ${percent(Math.min(...values))} and ${percent(Math.max(...values))}`
        : "Not computed yet"}
    >
      <line
        x1="0"
        x2="1000"
        y1={HEIGHT / 2}
        y2={HEIGHT / 2}
        stroke="var(--line)"
        vector-effect="non-scaling-stroke"
      />
      <polyline
        points={line}
        fill="none"
        stroke={colour}
        stroke-width="1.8"
        vector-effect="non-scaling-stroke"
      />
    </svg>
  </div>
</div>
