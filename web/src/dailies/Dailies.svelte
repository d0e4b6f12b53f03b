<script lang="ts">
  import { api, type Film } from "../api/client";
  import FilmTransport from "./FilmTransport.svelte";
  import FilmList from "./FilmList.svelte";
  import { films, isThere } from "../state/films.svelte";
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
  const clamp = (f: Film, number: number) => Math.min(f.settings.last, Math.max(f.settings.first, number));

  $effect(() => {
    if (film) frame = clamp(film, frame);
  });

  $effect(() => {
    if (!film) return;
    for (let number = film.settings.first; number <= film.settings.last; number++) {
      const url = address(film, number);
      if (!isThere(film, number)) continue;
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
        {#if mode === "difference" && !(isThere(film, first) && isThere(film, last))}
          {@render missing(isThere(film, first) ? last : first)}
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
        {:else if !isThere(film, frame)}
          {@render missing(frame)}
        {:else}
          <img
            class="absolute inset-0 h-full w-full"
            src={address(film, frame)}
            alt={`${film.name}, frame ${frame}`}
            data-testid="film-frame"
          />
          {#if mode === "wipe" && second && isThere(second, clamp(second, frame))}
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
      <FilmTransport {film} bind:frame bind:running bind:loop {mode} oncompare={compare} />
    {/if}
  </section>
</main>
