<script lang="ts">
  // Playing a film: its frame, its loop, what it is compared with, and its frames as a strip.
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import { api, type Film } from "../api/client";
  import { films, isThere } from "../state/films.svelte";

  interface Props {
    film: Film;
    frame: number;
    running: boolean;
    loop: boolean;
    mode: "one" | "wipe" | "difference";
    oncompare: (mode: "wipe" | "difference") => void;
  }
  let {
    film,
    frame = $bindable(),
    running = $bindable(),
    loop = $bindable(),
    mode,
    oncompare,
  }: Props = $props();
  let { first, last } = $derived(film.settings);
</script>

<div class="flex items-center gap-3 px-3 py-2">
  <button
    class="grid h-7 w-7 place-items-center rounded-full bg-lime text-on-lime"
    aria-label={running ? "Pause" : "Play"}
    disabled={first === last}
    onclick={() => (running = !running)}
    >{#if running}<Pause size={14} fill="currentColor" />{:else}<Play
        size={14}
        fill="currentColor"
      />{/if}</button
  >
  <span class="text-[19px] font-[650] tabular-nums" data-testid="film-number"
    >{frame} <small class="text-[12px] font-normal text-soft">/ {last}</small></span
  >
  <button class="text-soft" aria-label="One frame back" onclick={() => (frame = Math.max(first, frame - 1))}
    >◂</button
  >
  <button class="text-soft" aria-label="One frame on" onclick={() => (frame = Math.min(last, frame + 1))}
    >▸</button
  >
  <button class="text-soft aria-pressed:text-lime" aria-pressed={loop} onclick={() => (loop = !loop)}
    >{loop ? "loops" : "once"}</button
  >
  <span class="flex-1"></span>
  <button
    class="btn aria-pressed:outline aria-pressed:outline-lime"
    aria-pressed={mode === "wipe"}
    disabled={films.list.length < 2}
    onclick={() => oncompare("wipe")}>Wipe</button
  >
  <button
    class="btn aria-pressed:outline aria-pressed:outline-lime"
    aria-pressed={mode === "difference"}
    disabled={first === last}
    onclick={() => oncompare("difference")}>First against last</button
  >
</div>
<div class="flex gap-1.5 overflow-x-auto px-3 pb-2">
  {#each Array.from({ length: Math.min(last - first + 1, 240) }, (_, i) => first + i) as number (number)}
    <button
      class="w-[86px] flex-none overflow-hidden rounded-md outline-lime"
      class:outline-2={number === frame}
      class:outline={number === frame}
      aria-label={`Frame ${number}`}
      onclick={() => (frame = number)}
    >
      {#if isThere(film, number)}<img
          class="aspect-video w-full bg-raised object-cover"
          loading="lazy"
          src={api.filmFrame(film.id, number)}
          alt=""
        />{:else}<span class="block aspect-video w-full border border-dashed border-line"></span>{/if}
    </button>
  {/each}
</div>
