<script lang="ts">
  import { api, type MeasuredRun, type Run } from "../api/client";
  import Confirm from "../app/Confirm.svelte";
  import Picker from "../fields/Picker.svelte";
  import RunCard from "./RunCard.svelte";
  import RunPlot from "./RunPlot.svelte";
  import SideBySide from "./SideBySide.svelte";
  import { lineOf, MEASURES } from "./measures";
  import { keepRun } from "../state/commands.svelte";
  import { notices } from "../state/notices.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import { bytes } from "../state/time";

  let runs = $state.raw<Run[]>([]);
  let doomed = $state.raw<Run | null>(null);
  let current = $derived(playback.freshness);
  /** Frames of the current run, computed or not. */
  let computed = $derived(current?.stretches.reduce((sum, s) => sum + s.last - s.first + 1, 0) ?? 1);
  let measure = $state(MEASURES[0].name);
  let unit = $derived(MEASURES.find(({ name }) => name === measure)!.unit);
  /** What was measured of each run, once asked for. */
  let measured = $state.raw<Record<number, MeasuredRun>>({});
  /** Runs to be played side by side. */
  let beside = $state.raw<number[]>([]);
  let playing = $state(false);

  $effect(() => {
    void playback.changes;
    void shot.state?.revision;
    if (shot.id !== null) void notices.attempt(async () => (runs = await api.runs(shot.id!)));
  });

  // A kept run does not change; the current one is asked for again as it does.
  $effect(() => {
    for (const run of runs) if (!(run.id in measured)) void ask(run.id);
  });
  $effect(() => {
    void playback.changes;
    const run = current?.run;
    if (run !== undefined && !playback.computing) void ask(run);
  });

  async function ask(run: number) {
    const found = await api.measured(run).catch(() => null);
    if (found) measured = { ...measured, [run]: found };
  }

  async function act(work: () => Promise<unknown>) {
    await notices.attempt(work);
    if (shot.id !== null) runs = (await notices.attempt(() => api.runs(shot.id!))) ?? runs;
  }

  function drop(yes: boolean) {
    const run = doomed;
    doomed = null;
    if (!run || !yes) return;
    if (playback.ghost === run.id) playback.ghost = null;
    beside = beside.filter((id) => id !== run.id);
    void act(() => api.dropRun(run.id));
  }

  /** Chooses a run to be played beside another; of three the first goes. */
  function choose(run: number, on: boolean) {
    const others = beside.filter((id) => id !== run);
    beside = on ? [...others, run].slice(-2) : others;
  }

  let total = $derived(runs.reduce((sum, run) => sum + run.bytes, 0));
  let lines = $derived(
    Object.fromEntries(Object.entries(measured).map(([run, of]) => [run, lineOf(measure, of)])),
  );
  const others = (run: number) => [...runs.map(({ id }) => id), current?.run ?? 0].filter((id) => id !== run);
  const nameOf = (run: number) => runs.find(({ id }) => id === run)?.name ?? "Current run";
</script>

{#snippet plotOf(run: number)}
  {#if lines[run]}
    <RunPlot
      own={lines[run]}
      others={others(run).flatMap((id) => (lines[id] ? [lines[id]] : []))}
      name={measure}
      {unit}
    />
  {/if}
{/snippet}

<main class="overflow-auto p-6">
  <div class="mx-auto max-w-[1040px]">
    <div class="mb-3 flex flex-wrap items-center gap-3">
      <h2 class="flex-1 text-[17px] font-[680]">Current run</h2>
      <div class="w-[270px]">
        <Picker
          label="Plotted"
          value={measure}
          options={MEASURES.map(({ name }): [string, string] => [name, name])}
          onpick={(name) => (measure = name)}
        />
      </div>
      <button class="btn" disabled={beside.length !== 2} onclick={() => (playing = true)}
        >{beside.length === 2 ? "Play the two side by side" : "Choose two to play side by side"}</button
      >
    </div>
    {#if current}
      <div class="card mb-6 grid grid-cols-[208px_minmax(0,1fr)] gap-4 p-3">
        <div>
          <img
            class="aspect-video w-full rounded-md bg-raised object-cover text-transparent"
            src={api.poster(shot.id!, shot.state?.revision ?? 0)}
            alt="The current run, a frame"
          />
          <label class="mt-1 flex min-h-6 items-center gap-2">
            <input
              type="checkbox"
              class="accent-[var(--lime)]"
              checked={beside.includes(current.run)}
              aria-label="Play the current run beside another run"
              onchange={(event) => choose(current.run, event.currentTarget.checked)}
            /> Beside another
          </label>
        </div>
        <div class="min-w-0">
          <div class="mb-2 flex items-center gap-4">
            <div class="flex h-4 flex-1 overflow-hidden rounded bg-ground">
              {#each current.stretches as s (s.first)}
                <span
                  class={`flex-none ${s.state === "stale" ? "hatched" : ""}`}
                  style:width={`${(100 * (s.last - s.first + 1)) / computed}%`}
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
          {@render plotOf(current.run)}
        </div>
      </div>
    {/if}
    <h2 class="mb-3 flex items-baseline gap-3 text-[17px] font-[680]">
      Kept <span class="text-[12.5px] font-normal text-soft"
        >{runs.length} {runs.length === 1 ? "run" : "runs"} · {bytes(total)}</span
      >
    </h2>
    <ul class="grid gap-3">
      {#each runs as run (run.id)}
        <RunCard
          {run}
          chosen={beside.includes(run.id)}
          onchoose={(on) => choose(run.id, on)}
          onrename={(name) => act(() => api.renameRun(run.id, name))}
          onrestore={() => act(async () => shot.take(await api.restoreRun(run.id)))}
          ondrop={() => (doomed = run)}
        >
          {#snippet plot()}{@render plotOf(run.id)}{/snippet}
        </RunCard>
      {:else}
        <li class="text-soft">
          No run is kept. “Keep run” puts the current frames aside, so that you can compare or come back.
        </li>
      {/each}
    </ul>
  </div>
</main>

{#if playing}
  <SideBySide runs={beside.map((id) => ({ id, name: nameOf(id) }))} onclose={() => (playing = false)} />
{/if}
<Confirm name={doomed?.name ?? null} label="Drop" what="Its frames go from the disk." onanswer={drop} />
