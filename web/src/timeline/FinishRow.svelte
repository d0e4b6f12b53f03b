<script lang="ts">
  // A finishing step as a row: its words, and a strip as long as what it gives.
  import Eye from "@lucide/svelte/icons/eye";
  import EyeOff from "@lucide/svelte/icons/eye-off";
  import GripVertical from "@lucide/svelte/icons/grip-vertical";
  import CurveLane from "./CurveLane.svelte";
  import FinishStrip from "./FinishStrip.svelte";
  import KeyMarks from "./KeyMarks.svelte";
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import type { Element } from "../api/client";
  import { finishOf, moveStep, stepsOf, switchStep, wordsOf } from "../state/finishing";
  import { channelsOf, keyedFrames } from "../state/keys";
  import { marks } from "../state/marks.svelte";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";

  interface Props {
    element: Element;
    scrub: (event: PointerEvent) => void;
  }
  let { element, scrub }: Props = $props();

  let finish = $derived(finishOf(element)!);
  let on = $derived(finish.enabled !== false);
  let gives = $derived(playback.freshness?.finished?.steps.find((step) => step.step === element.id));
  let words = $derived(wordsOf(element));
  let chosen = $derived(selection.has(element.id));
  let channels = $derived(Object.entries(channelsOf(element)));
  let open = $derived(channels.length > 0 && marks.open.includes(element.id));
  /** Rows that the step is dragged down. */
  let dragged = $state(0);

  const ROW = 24;

  function drag(event: PointerEvent) {
    event.preventDefault();
    const start = event.clientY;
    const rows = (e: PointerEvent) => Math.round((e.clientY - start) / ROW);
    const move = (e: PointerEvent) => (dragged = rows(e));
    const done = (e: PointerEvent) => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
      dragged = 0;
      void moveStep(element, rows(e));
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
  }

  function press(event: KeyboardEvent) {
    const by = event.key === "ArrowUp" ? -1 : event.key === "ArrowDown" ? 1 : 0;
    if (by === 0) return;
    event.preventDefault();
    void moveStep(element, by);
  }
  let alone = $derived(stepsOf(finish.element ?? null).length < 2);
</script>

<div
  class="group grid h-6 grid-cols-[206px_1fr] items-center border-b border-line/40"
  data-row={element.id}
  style:transform={dragged ? `translateY(${dragged * ROW}px)` : undefined}
  style:background={chosen ? "color-mix(in srgb, var(--lime) 12%, transparent)" : undefined}
>
  <span class="flex min-w-0 items-center gap-1 pr-2 pl-[26px]">
    {#if channels.length > 0}
      <button
        class="-ml-[26px] grid h-6 w-6 shrink-0 place-items-center text-soft"
        aria-label={`${open ? "Close" : "Open"} the curves of ${element.name}`}
        aria-expanded={open}
        onclick={() => marks.toggleOpen(element.id)}
        ><ChevronRight size={12} class={open ? "rotate-90" : ""} /></button
      >
    {/if}
    <button
      class={`min-w-0 flex-1 truncate pl-[17px] text-left text-soft aria-pressed:font-semibold aria-pressed:text-ink ${on ? "" : "line-through opacity-60"}`}
      aria-pressed={chosen}
      title={`${element.name}: ${words}`}
      onclick={() => selection.only(element.id)}>{words}</button
    >
    {#if !alone}
      <button
        class="hidden cursor-grab place-items-center text-soft group-focus-within:grid group-hover:grid"
        aria-label={`Order of ${element.name}: up and down keys`}
        title="Drag to take this step earlier or later"
        onpointerdown={drag}
        onkeydown={press}><GripVertical size={13} /></button
      >
    {/if}
    <button
      class={`place-items-center ${on ? "hidden text-soft group-focus-within:grid group-hover:grid" : "grid text-ink"}`}
      aria-label={`${on ? "Switch off" : "Switch on"} ${element.name}`}
      aria-pressed={!on}
      title={`${on ? "Switch off" : "Switch on"} ${element.name}`}
      onclick={() => switchStep(element)}
      >{#if on}<Eye size={13} />{:else}<EyeOff size={13} />{/if}</button
    >
  </span>
  <div class="relative h-full cursor-ew-resize" onpointerdown={scrub} role="presentation">
    {#if on && gives}<FinishStrip {element} {gives} />{/if}
    <KeyMarks element={element.id} name={element.name} frames={keyedFrames(element)} />
  </div>
</div>
{#if open}
  {#each channels as [path, channel] (path)}
    <CurveLane {element} {path} {channel} {scrub} />
  {/each}
{/if}
