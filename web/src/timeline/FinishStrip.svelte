<script lang="ts">
  // The frames that a finishing step gives, as a strip.
  import type { Element, Schemas } from "../api/client";
  import { finishOf, tellProblem } from "../state/finishing";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";

  interface Props {
    element: Element;
    gives: Schemas["FinishedStep"];
  }
  let { element, gives }: Props = $props();

  let operation = $derived(finishOf(element)!.operation);
  let left = $derived(lanes.at(gives.first));
  let right = $derived(lanes.at(gives.last));
  /** Frames of a loop's end that fade into its beginning. */
  let overlap = $derived("loop" in operation ? (operation.loop.overlap ?? 0) : 0);
  let fades = $derived(lanes.at(gives.last - overlap));
</script>

{#if gives.problem}
  <button
    class="absolute inset-y-0.5 right-1 left-1 truncate rounded border border-dashed border-stale px-1.5 text-left text-[10.5px] leading-[17px] text-stale"
    title={`This step ${gives.problem}.`}
    onpointerdown={(event) => event.stopPropagation()}
    onclick={() => tellProblem(gives.problem!)}>not taken: {gives.problem}</button
  >
{:else}
  {#if "trim" in operation}
    <i
      class="absolute top-1/2 border-t border-dotted border-faint"
      style:left={`${lanes.at(playback.first)}%`}
      style:width={`${lanes.at(playback.end) - lanes.at(playback.first)}%`}
    ></i>
  {/if}
  <i
    class="absolute top-[9px] h-[6px] rounded-[3px]"
    data-testid="strip"
    style:left={`${left}%`}
    style:width={`${Math.max(0.4, right - left)}%`}
    style:background={overlap > 0
      ? `linear-gradient(to right, var(--finish) ${(100 * (fades - left)) / (right - left)}%, color-mix(in srgb, var(--finish) 25%, transparent) ${(100 * (fades - left)) / (right - left)}%, var(--finish))`
      : `color-mix(in srgb, var(--finish) ${gives.ticks.length > 0 ? 45 : 100}%, transparent)`}
  ></i>
  {#each gives.ticks as tick, i (i)}
    <i
      class="absolute top-[6px] h-[12px] w-px"
      style:left={`${lanes.at(tick)}%`}
      style:background="var(--finish)"
    ></i>
  {/each}
  {#if gives.repeats && "loop" in operation}
    <svg
      class="pointer-events-none absolute top-0 h-6 overflow-visible"
      style:left={`${left}%`}
      style:width={`${right - left}%`}
      viewBox="0 0 100 24"
      preserveAspectRatio="none"
      aria-hidden="true"
    >
      <path
        d="M100 12 C101.4 12 101.4 20 100 20 L0 20 C-1.2 20 -1.2 12 0 12"
        fill="none"
        stroke="var(--lime)"
        stroke-width="1.2"
        vector-effect="non-scaling-stroke"
      />
    </svg>
  {/if}
{/if}
