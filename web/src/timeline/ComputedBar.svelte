<script lang="ts">
  // The frames of a system in the current run against the shot as it is: computed, stale or missing.
  import type { Stretch } from "../api/client";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";

  let { stretches }: { stretches: Stretch[] } = $props();

  const says: Record<string, string> = { fresh: "computed", stale: "stale", missing: "" };
  const words = (s: Stretch) => (s.state === "stale" ? (s.reason ?? "stale") : says[s.state]);
</script>

{#each stretches as stretch (stretch.first)}
  <div
    class={`absolute top-[5px] bottom-[5px] overflow-hidden rounded-[3px] px-1.5 text-[10.5px] leading-[17px] whitespace-nowrap ${stretch.state === "stale" ? "hatched text-stale" : ""} ${stretch.state === "missing" ? "border border-line" : ""}`}
    style:left={`${lanes.at(stretch.first)}%`}
    style:width={`${lanes.at(stretch.last) - lanes.at(stretch.first) + (stretch.last === playback.end ? 0.6 : lanes.at(1) - lanes.at(0))}%`}
    style:background={stretch.state === "fresh"
      ? "color-mix(in srgb, var(--aqua) 32%, var(--panel))"
      : undefined}
    style:box-shadow={stretch.state === "fresh" ? "inset 0 -2px var(--aqua)" : undefined}
    data-state={stretch.state}
    data-first={stretch.first}
    data-last={stretch.last}
    title={`${stretch.first}–${stretch.last} ${stretch.state}${stretch.reason ? `, ${stretch.reason}` : ""}`}
  >
    {words(stretch)}
  </div>
{/each}
