<script lang="ts">
  import Eye from "@lucide/svelte/icons/eye";
  import EyeOff from "@lucide/svelte/icons/eye-off";
  import Focus from "@lucide/svelte/icons/focus";
  import Lock from "@lucide/svelte/icons/lock";
  import LockOpen from "@lucide/svelte/icons/lock-open";
  import { tick } from "svelte";
  import type { Element } from "../api/client";
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import CurveLane from "./CurveLane.svelte";
  import KeyMarks from "./KeyMarks.svelte";
  import LiquidLane from "./LiquidLane.svelte";
  import SpanBar from "./SpanBar.svelte";
  import TurnoverLane from "./TurnoverLane.svelte";
  import { keyedFrames, channelsOf } from "../state/keys";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";
  import { marks } from "../state/marks.svelte";
  import { selection } from "../state/selection.svelte";
  import { countOf, particlesOf, shot, solidOf } from "../state/shot.svelte";

  interface Props {
    element: Element;
    colour: string;
    scrub: (event: PointerEvent) => void;
  }
  let { element, colour, scrub }: Props = $props();

  let keys = $derived(
    keyedFrames(element).filter((frame) => frame >= playback.first && frame <= playback.end),
  );
  let channels = $derived(Object.entries(channelsOf(element)));
  let particles = $derived(particlesOf(element));
  /** Born of other particles only. */
  let never = $derived("never" in (particles?.emission?.schedule ?? {}));
  let opens = $derived(channels.length > 0 || particles !== undefined);
  let open = $derived(opens && marks.open.includes(element.id));
  let body = $derived(solidOf(element)?.body);
  let letGo = $derived(body?.wake && "frame" in body.wake ? body.wake.frame : undefined);
  let chosen = $derived(selection.has(element.id));

  let alone = $derived(selection.solo.includes(element.id));
  let switches = $derived([
    {
      label: alone ? "Show all again, not alone" : "Show alone",
      icon: Focus,
      on: alone,
      press: () => selection.toggleSolo(element.id),
    },
    {
      label: element.locked ? "Unlock" : "Lock",
      icon: element.locked ? Lock : LockOpen,
      on: element.locked === true,
      press: () => toggle("locked", element.locked ? "Unlocked" : "Locked"),
    },
    {
      label: element.hidden ? "Show" : "Hide",
      icon: element.hidden ? EyeOff : Eye,
      on: element.hidden === true,
      press: () => toggle("hidden", element.hidden ? "Shown" : "Hidden"),
    },
  ]);

  const toggle = (flag: "locked" | "hidden", label: string) =>
    shot.set(label, [element.id], `/${flag}`, !element[flag]);

  let row: HTMLElement;
  let opened: HTMLElement | undefined = $state();

  /** Opens the row and scrolls to what has come below it; the row itself stays in view. */
  async function toggleOpen() {
    marks.toggleOpen(element.id);
    await tick();
    opened?.scrollIntoView({ block: "nearest" });
    row.scrollIntoView({ block: "nearest" });
  }

  function pick(event: MouseEvent) {
    if (event.shiftKey || event.ctrlKey || event.metaKey) selection.toggle(element.id);
    else selection.only(element.id);
  }
</script>

<div
  class="group grid h-6 grid-cols-[206px_1fr] items-center border-b border-line/40 [content-visibility:auto]"
  data-row={element.id}
  bind:this={row}
  style:background={chosen ? "color-mix(in srgb, var(--lime) 12%, transparent)" : undefined}
>
  <span class="flex min-w-0 items-center gap-2 pr-2 pl-[26px]">
    {#if opens}
      <button
        class="-ml-[26px] grid h-6 w-6 shrink-0 place-items-center text-soft"
        aria-label={`${open ? "Close" : "Open"} the curves of ${element.name}`}
        aria-expanded={open}
        onclick={toggleOpen}><ChevronRight size={12} class={open ? "rotate-90" : ""} /></button
      >
    {/if}
    <i class="h-[9px] w-[9px] shrink-0 rounded-[3px]" style:background={colour}></i>
    <button
      class="min-w-0 flex-1 truncate text-left aria-pressed:font-semibold"
      class:text-faint={element.hidden}
      aria-pressed={chosen}
      onclick={pick}>{element.name}</button
    >
    {#if countOf(element) > 1}<em class="text-faint not-italic group-hover:hidden">× {countOf(element)}</em
      >{/if}
    <span class="flex">
      {#each switches as mark (mark.label)}
        <button
          class={`place-items-center ${mark.on ? "grid text-ink" : "hidden text-soft group-focus-within:grid group-hover:grid"}`}
          aria-label={`${mark.label} ${element.name}`}
          aria-pressed={mark.on}
          title={`${mark.label} ${element.name}`}
          onclick={mark.press}><mark.icon size={13} /></button
        >
      {/each}
    </span>
  </span>
  <div class="relative h-full cursor-ew-resize" onpointerdown={scrub} role="presentation">
    {#if "force" in element.kind}<SpanBar
        {element}
        {colour}
        frames={element.kind.force}
        path="/kind/force"
        off={element.kind.force.enabled === false}
      />{:else if "particles" in element.kind && !never}<SpanBar
        {element}
        {colour}
        frames={element.kind.particles.emission ?? {}}
        path="/kind/particles/emission"
      />{/if}
    {#if keys.length > 1}
      <i
        class="absolute top-1/2 h-[1.5px] bg-faint"
        style:left={`${lanes.at(keys[0])}%`}
        style:width={`${lanes.at(keys[keys.length - 1]) - lanes.at(keys[0])}%`}
      ></i>
    {/if}
    <KeyMarks element={element.id} name={element.name} frames={keys} />
    {#if letGo !== undefined && letGo !== null}
      <span
        class="absolute top-1 h-[15px] border-l-2 border-lime bg-panel/90 px-1 text-[10.5px] leading-[15px] text-lime"
        style:left={`${lanes.at(letGo)}%`}>{body?.moves === "animated" ? "let go" : "wake"}</span
      >
    {/if}
  </div>
</div>
{#if open}
  <div bind:this={opened}>
    {#if particles}<TurnoverLane {element} {colour} {scrub} />{/if}
    {#if particles?.liquid}<LiquidLane {element} {colour} {scrub} />{/if}
    {#each channels as [path, channel] (path)}
      <CurveLane {element} {path} {channel} {scrub} />
    {/each}
  </div>
{/if}
