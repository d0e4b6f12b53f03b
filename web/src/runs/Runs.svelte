<script lang="ts">
  import { api, type Run } from "../api/client";
  import Confirm from "../app/Confirm.svelte";
  import { keepRun } from "../state/commands.svelte";
  import { notices } from "../state/notices.svelte";
  import { playback } from "../state/playback.svelte";
  import { route } from "../state/route.svelte";
  import { shot } from "../state/shot.svelte";
  import { ago, bytes } from "../state/time";

  let runs = $state.raw<Run[]>([]);
  let doomed = $state.raw<Run | null>(null);
  let current = $derived(playback.freshness);

  $effect(() => {
    void playback.changes;
    void shot.state?.revision;
    if (shot.id !== null) void notices.attempt(async () => (runs = await api.runs(shot.id!)));
  });

  async function act(work: () => Promise<unknown>) {
    await notices.attempt(work);
    if (shot.id !== null) runs = (await notices.attempt(() => api.runs(shot.id!))) ?? runs;
  }

  function drop(yes: boolean) {
    const run = doomed;
    doomed = null;
    if (!run || !yes) return;
    if (playback.ghost === run.id) playback.ghost = null;
    void act(() => api.dropRun(run.id));
  }

  let total = $derived(runs.reduce((sum, run) => sum + run.bytes, 0));
</script>

<main class="overflow-auto p-6">
  <div class="mx-auto max-w-[980px]">
    <h2 class="mb-3 text-[17px] font-[680]">Current run</h2>
    {#if current}
      <div class="card mb-6 flex items-center gap-4 p-4">
        <div class="flex h-4 flex-1 overflow-hidden rounded bg-ground">
          {#each current.stretches as s (s.first)}
            <span
              class={`flex-none ${s.state === "stale" ? "hatched" : ""}`}
              style:width={`${(100 * (s.last - s.first + 1)) / (playback.last - playback.first + 1)}%`}
              style:background={s.state === "fresh"
                ? "color-mix(in srgb, var(--aqua) 45%, var(--panel))"
                : undefined}
              title={`${s.first}–${s.last} ${s.state}${s.reason ? `, ${s.reason}` : ""}`}
            ></span>
          {/each}
        </div>
        <span class="text-soft">{bytes(current.frame_bytes)}</span>
        <button class="btn btn-go" disabled={!current.frame_bytes} onclick={keepRun}>Keep run</button>
      </div>
    {/if}
    <h2 class="mb-3 flex items-baseline gap-3 text-[17px] font-[680]">
      Kept <span class="text-[12.5px] font-normal text-soft"
        >{runs.length} {runs.length === 1 ? "run" : "runs"} · {bytes(total)}</span
      >
    </h2>
    <ul class="grid gap-3">
      {#each runs as run (run.id)}
        <li class="card grid grid-cols-[48px_1fr_auto] items-center gap-4 p-4">
          <span class="text-[22px] font-[680] text-faint">{run.number}</span>
          <div>
            <input
              class="w-full max-w-[320px] rounded bg-transparent text-[14px] font-[650] hover:bg-ground"
              value={run.name}
              aria-label={`Name of run ${run.number}`}
              maxlength="80"
              onchange={(event) => act(() => api.renameRun(run.id, event.currentTarget.value))}
            />
            <p class="text-soft">
              {run.frames} frames · {bytes(run.bytes)} · kept {ago(run.made)} ·
              {run.differs.length
                ? `the shot now differs in ${run.differs.slice(0, 3).join(", ")}${run.differs.length > 3 ? " and more" : ""}`
                : "computed from the shot as it is"}
            </p>
          </div>
          <div class="flex gap-2">
            <button
              class="btn"
              aria-pressed={playback.ghost === run.id}
              onclick={() => {
                playback.ghost = playback.ghost === run.id ? null : run.id;
                if (playback.ghost !== null) route.open(shot.id!, "desk");
              }}>{playback.ghost === run.id ? "Hide ghost" : "Show as ghost"}</button
            >
            <button
              class="btn"
              disabled={run.differs.length === 0}
              onclick={() => act(async () => shot.take(await api.restoreRun(run.id)))}
              >Restore the shot</button
            >
            <button class="btn text-coral" onclick={() => (doomed = run)}>Drop</button>
          </div>
        </li>
      {:else}
        <li class="text-soft">
          No run is kept. “Keep run” puts the current frames aside, so that you can compare or come back.
        </li>
      {/each}
    </ul>
  </div>
</main>

<Confirm name={doomed?.name ?? null} label="Drop" what="Its frames go from the disk." onanswer={drop} />
