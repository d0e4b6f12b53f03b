<script lang="ts">
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import { api, type Film } from "../api/client";
  import FilmList from "./FilmList.svelte";
  import { films } from "../state/films.svelte";
  import { shot } from "../state/shot.svelte";

  let chosen = $state<number | null>(null);
  let other = $state<number | null>(null);
  let frame = $state(1);
  let running = $state(false);
  let loop = $state(true);
  let mode = $state<"one" | "wipe" | "difference">("one");
  let wipe = $state(50);
  let preloaded = new Map<string, HTMLImageElement>();

  let film = $derived(films.list.find((f) => f.id === chosen) ?? films.list[0]);
  let second = $derived(films.list.find((f) => f.id === other));
  let first = $derived(film?.settings.first ?? 1);
  let last = $derived(film?.settings.last ?? 1);
  const address = (f: Film, number: number) => api.filmFrame(f.id, number);
  // The server tells which frames are there; no other is asked for.
  const there = (f: Film, number: number) =>
    f.there.some(([first, last]) => first <= number && number <= last);
  const clamp = (f: Film, number: number) => Math.min(f.settings.last, Math.max(f.settings.first, number));

  $effect(() => {
    if (film) frame = clamp(film, frame);
  });

  $effect(() => {
    if (!film) return;
    for (let number = film.settings.first; number <= film.settings.last; number++) {
      const url = address(film, number);
      if (!there(film, number)) continue;
      if (preloaded.has(url)) continue;
      const image = new Image();
      image.src = url;
      preloaded.set(url, image);
    }
  });

  $effect(() => {
    if (!running || !film || last === first) return;
    const fps = shot.document?.timing.fps ?? 24;
    const timer = setInterval(() => {
      if (frame < last) frame++;
      else if (loop) frame = first;
      else running = false;
    }, 1000 / fps);
    return () => clearInterval(timer);
  });

  function compare(next: "wipe" | "difference") {
    mode = mode === next ? "one" : next;
    if (mode === "wipe" && !second) other = films.list.find((f) => f.id !== film?.id)?.id ?? null;
  }

  function press(event: KeyboardEvent) {
    if ((event.target as HTMLElement).matches("input, button")) return;
    if (event.key === ",") frame = Math.max(first, frame - 1);
    if (event.key === ".") frame = Math.min(last, frame + 1);
    if (event.key === "Enter") running = !running;
  }
</script>

<svelte:window onkeydown={press} />

{#snippet missing(number: number)}
  <p class="absolute inset-0 grid place-items-center bg-[#12181a] text-[#b9c4c2]">
    Frame {number} is not rendered yet.
  </p>
{/snippet}

<main class="grid min-h-0 grid-cols-[1fr_320px] grid-rows-[minmax(0,1fr)_150px]">
  <section class="grid min-h-0 place-items-center overflow-hidden bg-[#2e3232] p-6" aria-label="Film">
    {#if film}
      <figure
        class="relative max-h-full w-full max-w-[860px]"
        style:aspect-ratio={`${film.settings.width} / ${film.settings.height}`}
      >
        {#if mode === "difference" && !(there(film, first) && there(film, last))}
          {@render missing(there(film, first) ? last : first)}
        {:else if mode === "difference"}
          <img
            class="absolute inset-0 h-full w-full"
            src={address(film, first)}
            alt={`First frame, ${first}`}
          />
          <img
            class="absolute inset-0 h-full w-full mix-blend-difference"
            src={address(film, last)}
            alt={`Last frame, ${last}, as a difference`}
          />
        {:else if !there(film, frame)}
          {@render missing(frame)}
        {:else}
          <img
            class="absolute inset-0 h-full w-full"
            src={address(film, frame)}
            alt={`${film.name}, frame ${frame}`}
            data-testid="film-frame"
          />
          {#if mode === "wipe" && second && there(second, clamp(second, frame))}
            <img
              class="absolute inset-0 h-full w-full"
              src={address(second, clamp(second, frame))}
              alt={`${second.name}, frame ${clamp(second, frame)}`}
              style:clip-path={`inset(0 0 0 ${wipe}%)`}
            />
            <i class="absolute inset-y-0 w-0.5 bg-[#c9f26b]" style:left={`${wipe}%`}></i>
            <input
              class="absolute inset-x-0 bottom-2 mx-auto w-1/2 accent-[#c9f26b]"
              type="range"
              min="0"
              max="100"
              bind:value={wipe}
              aria-label="Wipe"
            />
            <span class="absolute top-2.5 right-2.5 rounded-full bg-[#12181ae0] px-2.5 py-0.5 text-[#dfe8e5]"
              >{second.name}</span
            >
          {/if}
        {/if}
        <figcaption
          class="absolute top-2.5 left-2.5 rounded-full bg-[#12181ae0] px-2.5 py-0.5 text-[#dfe8e5]"
        >
          {mode === "difference" ? `${film.name}: frame ${first} against ${last}` : film.name}
        </figcaption>
      </figure>
    {:else}
      <p class="text-[#b9c4c2]">Nothing is rendered yet. “Render…” makes a still or a film.</p>
    {/if}
  </section>
  <FilmList {film} {frame} {second} {mode} onchoose={(id) => (chosen = id)} onsecond={(id) => (other = id)} />
  <section class="min-w-0 border-t border-line bg-panel" aria-label="Playing the film">
    {#if film}
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
        <span class="text-[19px] font-[650]" data-testid="film-number"
          >{frame} <small class="text-[12px] font-normal text-soft">/ {last}</small></span
        >
        <button
          class="text-soft"
          aria-label="One frame back"
          onclick={() => (frame = Math.max(first, frame - 1))}>◂</button
        >
        <button
          class="text-soft"
          aria-label="One frame on"
          onclick={() => (frame = Math.min(last, frame + 1))}>▸</button
        >
        <button class="text-soft aria-pressed:text-lime" aria-pressed={loop} onclick={() => (loop = !loop)}
          >{loop ? "loops" : "once"}</button
        >
        <span class="flex-1"></span>
        <button
          class="btn aria-pressed:outline aria-pressed:outline-lime"
          aria-pressed={mode === "wipe"}
          disabled={films.list.length < 2}
          onclick={() => compare("wipe")}>Wipe</button
        >
        <button
          class="btn aria-pressed:outline aria-pressed:outline-lime"
          aria-pressed={mode === "difference"}
          disabled={first === last}
          onclick={() => compare("difference")}>First against last</button
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
            {#if there(film, number)}<img
                class="aspect-video w-full bg-raised object-cover"
                loading="lazy"
                src={address(film, number)}
                alt=""
              />{:else}<span class="block aspect-video w-full border border-dashed border-line"></span>{/if}
          </button>
        {/each}
      </div>
    {/if}
  </section>
</main>
