<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import Beginning from "./Beginning.svelte";
  import HandOn from "./HandOn.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import TimingSection from "./TimingSection.svelte";
  import { shot } from "../state/shot.svelte";
  import { playback } from "../state/playback.svelte";
  import { bytes } from "../state/time";

  let document = $derived(shot.document!);
  const set = (label: string, path: string, value: unknown) =>
    shot.edit(label, () => [{ op: "add", path, value }]);
</script>

<input
  class="w-full rounded bg-transparent text-[17px] font-[680] tracking-tight hover:bg-ground"
  value={document.name}
  aria-label="Name of the shot"
  maxlength="80"
  onchange={(event) => set("Shot renamed", "/name", event.currentTarget.value.trim())}
/>
<p class="mt-0.5 mb-2 text-soft">The shot. Select an element to see its sheet.</p>
<label class="mb-3 grid grid-cols-[108px_1fr] items-center gap-2"
  >About <input
    class="field"
    value={document.about ?? ""}
    placeholder="what it shows, in a line"
    maxlength="160"
    onchange={(event) => set("About the shot", "/about", event.currentTarget.value.trim())}
  /></label
>
<Section title="Picture">
  <NumberField
    label="Width"
    unit="px"
    step={16}
    whole
    value={document.picture.width}
    oncommit={(v) => set("Width changed", "/picture/width", v)}
  />
  <NumberField
    label="Height"
    unit="px"
    step={16}
    whole
    value={document.picture.height}
    oncommit={(v) => set("Height changed", "/picture/height", v)}
  />
  <NumberField
    label="Poster"
    unit="frame"
    step={1}
    whole
    blank="where most happens"
    value={document.poster}
    oncommit={(v) => set("Poster chosen", "/poster", v)}
    onclear={() => set("Poster where most happens", "/poster", null)}
  />
  <button
    class="btn mt-1 py-0.5"
    disabled={document.poster === playback.frame}
    onclick={() => set("Poster chosen", "/poster", playback.frame)}
    >Frame {playback.frame} as the poster</button
  >
</Section>
<TimingSection />
<Section title="Physics">
  <NumberField
    label="Substeps"
    unit="a frame"
    step={1}
    whole
    slide={[1, 32]}
    value={document.physics?.substeps ?? 8}
    oncommit={(v) => set("Substeps changed", "/physics/substeps", v)}
  />
  <ParameterField target={{ element: null, ids: [], path: "physics.world_m" }} />
  <ParameterField target={{ element: null, ids: [], path: "physics.time_scale" }} />
  <Tick
    label="Keys of bodies and forces slow with it"
    checked={document.physics?.keys_follow ?? true}
    onchange={(checked) => set("Keys and time scale", "/physics/keys_follow", checked)}
  />
</Section>
<Beginning />
{#if playback.freshness}
  <Section title="This run">
    <p class="text-soft">
      {bytes(playback.freshness.frame_bytes)} of frames and {bytes(playback.freshness.state_bytes)} of states to
      go on from.
    </p>
    <button
      class="btn mt-2"
      disabled={!!playback.computing || !playback.freshness.frame_bytes}
      onclick={() => playback.clear()}>Drop all frames</button
    >
  </Section>
{/if}
<HandOn />
