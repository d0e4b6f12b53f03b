<script lang="ts">
  // Playing: what is played and how, and what is done with the keys chosen.
  import Pause from "@lucide/svelte/icons/pause";
  import Play from "@lucide/svelte/icons/play";
  import Repeat from "@lucide/svelte/icons/repeat";
  import Square from "@lucide/svelte/icons/square";
  import KeyTools from "./KeyTools.svelte";
  import Perform from "./Perform.svelte";
  import { marks } from "../state/marks.svelte";
  import { performing, playOrPerform } from "../state/performing.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import { spoken } from "../state/time";

  let fps = $derived(shot.document?.timing.fps ?? 24);
  let computed = $derived(shot.document?.timing.last ?? 1);
  let status = $derived.by(() => {
    if (playback.computing)
      return `Computing frame ${playback.computing.frame} of ${playback.computing.last} · ${spoken(playback.computing.secondsLeft)} left`;
    const alone = playback.freshness?.systems.find((of) => of.system === playback.only);
    const done = alone?.stretches.every((s) => s.state === "fresh");
    const all = playback.freshness?.stretches.every((s) => s.state === "fresh");
    if (alone && !all)
      return done
        ? `${alone.name} computed; the others hold`
        : `Playing computes ${alone.name} only; the others hold`;
    const stale = playback.freshness?.stretches.filter((s) => s.state === "stale") ?? [];
    const missing = playback.freshness?.stretches.some((s) => s.state === "missing");
    if (stale.length) return "Stale frames are computed again by playing";
    return missing ? "Playing computes what is missing" : "All frames are computed";
  });
</script>

<div class="@container flex min-w-0 items-center gap-3 px-3">
  <button
    class="grid h-7 w-7 flex-none place-items-center rounded-full bg-lime text-on-lime"
    aria-label={performing.on ? "Stop" : playback.running ? "Pause" : "Play"}
    title={performing.on ? "Stop, and keep what was performed (Enter)" : "Play or pause (Enter)"}
    disabled={performing.state === "preparing" || performing.state === "saving"}
    onclick={playOrPerform}
    >{#if performing.on}<Square size={12} fill="currentColor" />{:else if playback.running}<Pause
        size={14}
        fill="currentColor"
      />{:else}<Play size={14} fill="currentColor" />{/if}</button
  >
  <span class="flex-none text-[19px] font-[650] tracking-tight whitespace-nowrap" data-testid="frame"
    ><span class="tabular-nums">{playback.frame}</span>
    <small class="text-[12px] font-normal text-soft"
      >/ {playback.last}{playback.finished && playback.last !== computed
        ? ` of ${computed} computed`
        : ""}<span class="hidden @3xl:inline">
        &nbsp;· {((playback.frame - playback.first) / fps).toFixed(2)} s</span
      ></small
    ></span
  >
  <button
    class="flex flex-none items-center gap-1 text-soft aria-pressed:text-lime"
    aria-pressed={playback.loop}
    onclick={() => (playback.loop = !playback.loop)}
    title="Whether it begins again at its end"><Repeat size={13} /> {playback.loop ? "loops" : "once"}</button
  >
  <button
    class="flex-none text-soft aria-pressed:text-lime"
    aria-pressed={playback.backwards}
    title="Whether the run is shown from its end to its start"
    onclick={() => (playback.backwards = !playback.backwards)}
    >{playback.backwards ? "backwards" : "forwards"}</button
  >
  <button
    class="flex-none text-soft"
    onclick={() => (playback.rate = playback.rate === 1 ? 0.25 : playback.rate * 2)}
    title="Speed of playing">×{playback.rate}</button
  >
  <Perform />
  {#if marks.list.length > 0 && !performing.armed}<KeyTools />{/if}
  <span
    class="ml-auto min-w-0 truncate text-soft"
    title={status}
    class:hidden={marks.list.length > 0 || performing.armed}
    data-testid="status">{status}</span
  >
  {#if playback.computing}<button class="btn flex-none py-0.5" onclick={() => playback.stopComputing()}
      >Stop</button
    >{/if}
</div>
