<script lang="ts">
  import { Dialog } from "bits-ui";
  import { untrack } from "svelte";
  import Choice from "../fields/Choice.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Tick from "../fields/Tick.svelte";
  import { api, type FilmSettings, type Schemas } from "../api/client";
  import { films } from "../state/films.svelte";
  import { playback } from "../state/playback.svelte";
  import { route } from "../state/route.svelte";
  import { shot } from "../state/shot.svelte";
  import { bytes, spoken } from "../state/time";
  import { viewFilm } from "../state/viewFilm.svelte";

  type Kind = "still" | "drawn" | "draft" | "final";
  let kind = $state<Kind>("still");
  let name = $state("");
  let first = $state(1);
  let last = $state(1);
  let width = $state(640);
  let height = $state(360);
  let samples = $state(16);
  let exr = $state(false);
  let clamp = $state(false);
  let shift = $state(0);

  function preset(next: Kind) {
    kind = next;
    const document = shot.document!;
    const scale = next === "draft" ? 0.5 : 1;
    const number = films.list.filter((film) => film.name.startsWith(names[next].split(",")[0])).length + 1;
    name = next === "still" ? `Still, frame ${playback.frame}` : `${names[next]} ${number}`;
    [first, last] = next === "still" ? [playback.frame, playback.frame] : [playback.first, playback.last];
    [width, height] = [
      Math.round(document.picture.width * scale),
      Math.round(document.picture.height * scale),
    ];
    samples = { still: 128, drawn: 1, draft: 8, final: 64 }[next];
    exr = next === "final";
    clamp = next === "draft";
  }
  const names: Record<Kind, string> = { still: "Still", drawn: "Drawn", draft: "Draft", final: "Final" };

  $effect(() => {
    // Set once at opening: typed values stay whatever happens to the shot.
    if (films.asking) untrack(() => preset("still"));
  });

  let missing = $derived.by(() => {
    let count = 0;
    for (let frame = first; frame <= last; frame++) if (playback.stateOf(frame) !== "fresh") count++;
    return count;
  });

  let settings = $derived<FilmSettings>({
    first,
    last,
    width,
    height,
    samples,
    exr,
    clamp: clamp && !exr,
    backwards: playback.backwards,
    shift,
  });

  // The forecast is asked for once the settings have not changed for a moment.
  let forecast = $state.raw<Schemas["FilmForecast"] | "asked" | "refused">("asked");
  let forecasts = 0;
  $effect(() => {
    const [id, asked] = [shot.id, settings];
    const turn = ++forecasts;
    forecast = "asked";
    if (!films.asking || id === null || kind === "drawn") return;
    const timer = setTimeout(() => {
      void api.forecast(id, asked).then(
        (told) => turn === forecasts && (forecast = told),
        () => turn === forecasts && (forecast = "refused"),
      );
    }, 300);
    return () => clearTimeout(timer);
  });

  async function begin() {
    if (kind === "drawn") {
      films.asking = false;
      return viewFilm.save(first, last);
    }
    const film = await films.begin(name, settings);
    if (!film) return;
    films.asking = false;
    route.open(shot.id!, "dailies");
  }
</script>

<Dialog.Root bind:open={films.asking}>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-black/50" />
    <Dialog.Content
      class="card fixed top-20 left-1/2 z-50 grid w-[400px] -translate-x-1/2 gap-1.5 p-4 shadow-2xl"
    >
      <Dialog.Title class="mb-1 text-[17px] font-[680]">Render</Dialog.Title>
      <Choice
        label="What"
        value={kind}
        options={[
          ["still", "Still"],
          ["draft", "Draft film"],
          ["final", "Final film"],
          ["drawn", "As drawn"],
        ]}
        onpick={(next) => preset(next as Kind)}
      />
      {#if kind !== "drawn"}
        <label class="grid grid-cols-[108px_1fr] items-center gap-2"
          >Name <input class="field" bind:value={name} maxlength="80" /></label
        >
      {/if}
      {#if kind === "still"}
        <NumberField label="Frame" value={first} step={1} whole oncommit={(v) => ((first = v), (last = v))} />
      {:else}
        <NumberField label="First frame" value={first} step={1} whole oncommit={(v) => (first = v)} />
        <NumberField label="Last frame" value={last} step={1} whole oncommit={(v) => (last = v)} />
      {/if}
      {#if kind !== "drawn"}
        <NumberField label="Width" unit="px" value={width} step={16} whole oncommit={(v) => (width = v)} />
        <NumberField label="Height" unit="px" value={height} step={16} whole oncommit={(v) => (height = v)} />
        <NumberField
          label="Samples"
          unit="a pixel"
          value={samples}
          step={8}
          whole
          oncommit={(v) => (samples = v)}
        />
        {#if kind !== "still"}
          <NumberField
            label="Run later by"
            unit="frames"
            value={shift}
            step={1}
            whole
            oncommit={(v) => (shift = v)}
          />
          <Tick label="Run from its end to its start; the camera goes on" bind:checked={playback.backwards} />
        {/if}
        <Tick label="Also EXR: scene-linear, with depth, normal and element layers" bind:checked={exr} />
        {#if !exr}
          <Tick label="Bright specks bounded, at the price of some light" bind:checked={clamp} />
        {/if}
      {/if}
      {#if missing > 0 && kind !== "drawn"}
        <p class="rounded-md border-l-2 border-stale bg-raised px-3 py-2">
          {missing === 1
            ? "1 frame is not computed yet and is"
            : `${missing} frames are not computed yet and are`} computed first.
        </p>
      {/if}
      <p class="min-h-[18px] text-soft" aria-live="polite" data-testid="forecast">
        {#if kind === "drawn"}The Viewport as it is, frame by frame, as an MP4 file to save. Frames that are
          not computed are as placed.
        {:else if forecast === "asked"}Measuring a few tiles…{:else if forecast === "refused"}No forecast: the
          settings are not possible.{:else}About {spoken(forecast.seconds)} and {bytes(
            forecast.bytes,
          )}{missing > 0 ? ", after the frames are computed" : ""}.{/if}
      </p>
      <div class="mt-2 flex justify-end gap-2">
        <Dialog.Close class="btn">Cancel</Dialog.Close>
        <button class="btn btn-go" onclick={begin}>Begin</button>
      </div>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
