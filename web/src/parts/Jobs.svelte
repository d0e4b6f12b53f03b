<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import { films } from "../state/films.svelte";
  import { playback } from "../state/playback.svelte";
  import { spoken } from "../state/time";

  let film = $derived(films.list.findLast((f) => f.state === "running"));
  let baking = $derived(playback.computing);
</script>

{#snippet job(label: string, done: number, total: number, left: number | null | undefined, stop: () => void)}
  <div
    class="flex items-center gap-2 rounded-full border border-line py-0.5 pr-1 pl-2.5 text-soft"
    role="status"
  >
    <span class="whitespace-nowrap">{label} {done} of {total}{left ? ` · ${spoken(left)} left` : ""}</span>
    <span class="h-1 w-12 overflow-hidden rounded bg-ground"
      ><span class="block h-full bg-aqua" style:width={`${(100 * done) / Math.max(1, total)}%`}></span></span
    >
    <button class="rounded-full p-0.5 hover:bg-raised" aria-label={`Stop: ${label}`} onclick={stop}
      ><X size={13} /></button
    >
  </div>
{/snippet}

{#if baking}
  {@render job("Computing", baking.frame, baking.last, baking.secondsLeft, () => playback.stopComputing())}
{/if}
{#if film}
  {@render job(film.name, film.done, film.total, film.seconds_left, () => films.stop(film.id))}
{/if}
