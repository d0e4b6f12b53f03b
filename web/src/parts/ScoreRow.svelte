<script lang="ts">
  import Eye from "@lucide/svelte/icons/eye";
  import EyeOff from "@lucide/svelte/icons/eye-off";
  import Lock from "@lucide/svelte/icons/lock";
  import type { Element } from "../api/client";
  import { selection } from "../state/selection.svelte";
  import { countOf, shot, solidOf } from "../state/shot.svelte";

  interface Props {
    element: Element;
    colour: string;
    at: (frame: number) => number;
    scrub: (event: PointerEvent) => void;
  }
  let { element, colour, at, scrub }: Props = $props();

  let keys = $derived(
    [
      ...new Set(
        [element.placement.place_m, element.placement.turn_rad].flatMap((param) =>
          param && !Array.isArray(param)
            ? (param as { keys: { frame: number }[] }).keys.map((key) => key.frame)
            : [],
        ),
      ),
    ].sort((a, b) => a - b),
  );
  let body = $derived(solidOf(element)?.body);
  let letGo = $derived(body?.moves === "animated" ? body.let_go_frame : undefined);
  let chosen = $derived(selection.has(element.id));

  function pick(event: MouseEvent) {
    if (event.shiftKey || event.ctrlKey || event.metaKey) selection.toggle(element.id);
    else selection.only(element.id);
  }
</script>

<div
  class="group grid h-[23px] grid-cols-[206px_1fr] items-center border-b border-line/40 [content-visibility:auto]"
  style:background={chosen ? "color-mix(in srgb, var(--lime) 12%, transparent)" : undefined}
>
  <span class="flex min-w-0 items-center gap-2 pr-2 pl-[26px]">
    <i class="h-[9px] w-[9px] shrink-0 rounded-[3px]" style:background={colour}></i>
    <button
      class="min-w-0 flex-1 truncate text-left aria-pressed:font-semibold"
      class:text-faint={element.hidden}
      aria-pressed={chosen}
      onclick={pick}>{element.name}</button
    >
    {#if countOf(element) > 1}<em class="text-faint not-italic">× {countOf(element)}</em>{/if}
    {#if element.locked}<Lock size={12} class="text-faint" aria-label="locked" />{/if}
    <button
      class={element.hidden ? "" : "opacity-0 group-hover:opacity-100 focus-visible:opacity-100"}
      aria-label={element.hidden ? `Show ${element.name}` : `Hide ${element.name}`}
      onclick={() => shot.set(element.hidden ? "Shown" : "Hidden", [element.id], "/hidden", !element.hidden)}
      >{#if element.hidden}<EyeOff size={13} />{:else}<Eye size={13} />{/if}</button
    >
  </span>
  <div class="relative h-full cursor-ew-resize" onpointerdown={scrub} role="presentation">
    {#if "gravity" in element.is}
      <i class="absolute top-2 h-[7px] rounded bg-force/60" style:left="1%" style:width="96%"></i>
    {/if}
    {#if keys.length > 1}
      <i
        class="absolute top-1/2 h-[1.5px] bg-faint"
        style:left={`${at(keys[0])}%`}
        style:width={`${at(keys[keys.length - 1]) - at(keys[0])}%`}
      ></i>
    {/if}
    {#each keys as frame (frame)}
      <i
        class="absolute top-1/2 -mt-[3.5px] -ml-[3.5px] h-[7px] w-[7px] rounded-full bg-ink"
        style:left={`${at(frame)}%`}
      ></i>
    {/each}
    {#if letGo !== undefined && letGo !== null}
      <span
        class="absolute top-1 h-[15px] border-l-2 border-lime bg-panel/90 px-1 text-[10.5px] leading-[15px] text-lime"
        style:left={`${at(letGo)}%`}>let go</span
      >
    {/if}
  </div>
</div>
