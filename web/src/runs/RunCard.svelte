<script lang="ts">
  // A kept run: its poster, a measurement, what differs, and what can be done with it.
  import type { Snippet } from "svelte";
  import { api, type Run } from "../api/client";
  import Differences from "./Differences.svelte";
  import { playback } from "../state/playback.svelte";
  import { route } from "../state/route.svelte";
  import { shot } from "../state/shot.svelte";
  import { ago, bytes } from "../state/time";

  interface Props {
    run: Run;
    /** Whether it is one of those to be played side by side. */
    chosen: boolean;
    onchoose: (on: boolean) => unknown;
    onrename: (name: string) => unknown;
    onrestore: () => unknown;
    ondrop: () => unknown;
    plot: Snippet;
  }
  let { run, chosen, onchoose, onrename, onrestore, ondrop, plot }: Props = $props();

  function ghost() {
    playback.ghost = playback.ghost === run.id ? null : run.id;
    if (playback.ghost !== null) route.open(shot.id!, "desk");
  }
</script>

<li class="card grid grid-cols-[208px_minmax(0,1fr)_minmax(0,1fr)] gap-4 p-3" data-run={run.number}>
  <div>
    <img
      class="aspect-video w-full rounded-md bg-raised object-cover text-transparent"
      src={api.runPoster(run.id)}
      alt={`${run.name}, a frame`}
    />
    <label class="mt-1 flex min-h-6 items-center gap-2">
      <input
        type="checkbox"
        class="accent-[var(--lime)]"
        checked={chosen}
        aria-label={`Play ${run.name} beside another run`}
        onchange={(event) => onchoose(event.currentTarget.checked)}
      /> Beside another
    </label>
  </div>
  <div class="min-w-0">
    <div class="flex items-baseline gap-2">
      <span class="text-[17px] font-[680] text-faint">{run.number}</span>
      <input
        class="w-full min-w-0 rounded bg-transparent text-[14px] font-[650] hover:bg-ground"
        value={run.name}
        aria-label={`Name of run ${run.number}`}
        maxlength="80"
        onchange={(event) => onrename(event.currentTarget.value)}
      />
    </div>
    <p class="mb-1.5 text-soft">{run.frames} frames · {bytes(run.bytes)} · kept {ago(run.made)}</p>
    {@render plot()}
  </div>
  <div class="flex min-w-0 flex-col gap-2">
    <div class="min-h-0 flex-1"><Differences run={run.id} name={run.name} /></div>
    <div class="flex flex-wrap justify-end gap-2">
      <button class="btn" aria-pressed={playback.ghost === run.id} onclick={ghost}
        >{playback.ghost === run.id ? "Hide ghost" : "Show as ghost"}</button
      >
      <button class="btn" disabled={run.differs.length === 0} onclick={onrestore}>Restore the shot</button>
      <button class="btn text-coral" onclick={ondrop}>Drop</button>
    </div>
  </div>
</li>
