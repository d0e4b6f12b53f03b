<script lang="ts">
  // A line as long as the shot under a value that can be keyed: its keys are knots on the line, its
  // course a miniature curve. A press keys the value; K does so from any field of the same row.
  import { on } from "svelte/events";
  import { api } from "../api/client";
  import Knots from "./Knots.svelte";
  import { curvesOf, knotsOf, THREAD_HEIGHT } from "./thread";
  import { playback } from "../state/playback.svelte";
  import { threads } from "../state/scale.svelte";
  import { shot } from "../state/shot.svelte";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  let { label, target }: { label: string; target: Target } = $props();

  const SAMPLES = 97;
  let how = $derived(values.how(target));
  let channels = $derived(values.channels(target));
  let [first, last] = $derived([playback.first, playback.end]);
  let knots = $derived(knotsOf(channels, threads.at));
  let notch = $derived(threads.at(playback.frame));
  let curves = $state.raw<string[]>([]);
  let said = $derived(label.toLowerCase());
  const words = $derived(
    {
      constant: `Key ${said} at frame ${playback.frame} (K)`,
      keyed: `Key ${said} at frame ${playback.frame} (K)`,
      here: `Remove the key of ${said} at frame ${playback.frame} (K)`,
      formula: `${label} follows a formula`,
    }[how],
  );

  // What the curve is drawn from: a formula may read anything of the shot, keys only themselves.
  let drawnFrom = $derived(
    channels.length > 0 ? JSON.stringify([channels, how === "formula" && shot.state?.revision]) : "",
  );
  let asked = 0;
  $effect(() => {
    const turn = ++asked;
    const id = shot.id;
    if (drawnFrom === "" || id === null || last <= first) {
      curves = [];
      return;
    }
    const element = target.element?.id ?? null;
    const of = (path: string) =>
      api.sample(id, { element, path, from: first, to: last, count: SAMPLES }).then((found) => found.parts);
    void Promise.all(channels.map(([path]) => of(path)))
      .then((found) => turn === asked && (curves = curvesOf(found.flat())))
      .catch(() => undefined);
  });

  /** Listens for K in every field of the row that the thread is in. */
  function row(thread: HTMLElement) {
    const onkey = (event: KeyboardEvent) => {
      if (event.key.toLowerCase() !== "k" || event.ctrlKey || event.metaKey || event.altKey) return;
      const field = event.target as HTMLInputElement;
      if (event.shiftKey || field.value?.trimStart().startsWith("=")) return;
      event.preventDefault();
      event.stopPropagation();
      if (how !== "formula") void values.toggleKey(target, label);
    };
    return on(thread.parentElement!, "keydown", onkey);
  }
</script>

<div class="thread" data-how={how} data-thread={label} {@attach row}>
  <button
    tabindex="-1"
    class:late={notch > 50}
    aria-label={words}
    disabled={how === "formula"}
    onclick={() => values.toggleKey(target, label)}
  ></button>
  <svg viewBox={`0 0 100 ${THREAD_HEIGHT}`} preserveAspectRatio="none" aria-hidden="true">
    {#if curves.length === 0}<line x1="0" x2="100" y1={THREAD_HEIGHT / 2} y2={THREAD_HEIGHT / 2} />{/if}
    {#each curves as points, i (i)}<polyline {points} />{/each}
  </svg>
  <i class="notch" style:left={`${notch}%`}></i>
  <Knots {knots} {target} />
</div>

<style>
  .thread {
    position: absolute;
    inset-inline: 0;
    bottom: 0;
    height: 7px;
    z-index: 1;
  }
  .thread:hover,
  :global(.threaded:focus-within) > .thread {
    bottom: -6px;
    height: 20px;
    z-index: 5;
  }
  .thread:hover {
    border-radius: 4px;
    background: color-mix(in srgb, var(--panel) 86%, transparent);
  }
  button {
    position: absolute;
    inset: 0;
    width: 100%;
    min-height: 0;
  }
  /* The words for a press, where the notch is not. */
  button:hover::after {
    content: attr(aria-label);
    position: absolute;
    right: 0;
    bottom: 1px;
    font-size: 10.5px;
    line-height: 18px;
    white-space: nowrap;
    color: var(--lime);
    background: var(--panel);
    padding-inline: 5px;
    border-radius: 4px;
  }
  .thread:hover button {
    z-index: 1;
  }
  button.late::after {
    left: 0;
    right: auto;
  }
  svg {
    position: absolute;
    inset: 0;
    width: 100%;
    height: 100%;
    pointer-events: none;
  }
  line,
  polyline {
    fill: none;
    stroke: var(--line);
    stroke-width: 1.25;
    vector-effect: non-scaling-stroke;
  }
  polyline {
    stroke: var(--lime);
  }
  polyline + polyline {
    stroke-opacity: 0.55;
  }
  [data-how="formula"] polyline {
    stroke: var(--aqua);
    stroke-dasharray: 1.5 2.5;
  }
  .notch {
    position: absolute;
    top: 1px;
    bottom: 1px;
    width: 1px;
    background: var(--soft);
    pointer-events: none;
  }
</style>
