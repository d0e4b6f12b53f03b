<script lang="ts">
  import ParameterRows from "../fields/ParameterRows.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import { kindOf, type Element, type Schemas } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { VOLUME_NAMES } from "../state/forces";
  import { COMBINE_NAMES } from "../state/maps";
  import { named } from "../state/options";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element }: { element: Element } = $props();
  let region = $derived(("region" in element.kind ? element.kind.region : {}) as Schemas["Region"]);
  let kind = $derived(kindOf(region.volume));
  let parts = $derived("combined" in region.volume ? region.volume.combined.parts : []);
  let solids = $derived(shot.elements.filter((e) => "solid" in e.kind));
  let cameras = $derived(shot.elements.filter((e) => "camera" in e.kind));
  let others = $derived(shot.elements.filter((e) => "region" in e.kind && e.id !== element.id));
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.region.${path}` });
  const set = (label: string, path: string, value: unknown) => values.assign(at(path), label, value);

  function pickVolume(next: typeof kind) {
    const begin: Record<typeof kind, unknown> = {
      box: { size_m: [2, 2, 2] },
      sphere: { radius_m: 1 },
      half_space: {},
      cylinder: { radius_m: 1, height_m: 2 },
      inside: { solid: solids[0]?.id },
      gate: { camera: cameras[0]?.id, margin: 0.1 },
      noise: { size_m: 1, threshold: 0.5, softness: 0.2 },
      combined: { parts: others.slice(0, 2).map((e) => ({ region: e.id, operation: "add" })) },
    };
    return set("Volume", "volume", { [next]: begin[next] });
  }
  let choices = $derived(
    (Object.entries(VOLUME_NAMES) as [typeof kind, string][]).filter(
      ([key]) =>
        (key !== "inside" || solids.length > 0) &&
        (key !== "gate" || cameras.length > 0) &&
        (key !== "combined" || others.length > 0),
    ),
  );
</script>

<Section title="Volume">
  <Picker label="Volume" target={at("volume")} value={kind} options={choices} onpick={pickVolume} />
  <ParameterRows target={at(`volume.${kind}`)} />
  {#if "inside" in region.volume}
    <Picker
      label="Solid"
      target={at("volume.inside.solid")}
      value={String(region.volume.inside.solid)}
      options={named(solids)}
      onpick={(v) => set("Solid", "volume.inside.solid", Number(v))}
    />
  {/if}
  {#if "gate" in region.volume}
    <Picker
      label="Camera"
      target={at("volume.gate.camera")}
      value={String(region.volume.gate.camera)}
      options={named(cameras)}
      onpick={(v) => set("Camera", "volume.gate.camera", Number(v))}
    />
  {/if}
  {#each parts as part, i (i)}
    <div class="grid grid-cols-[108px_1fr_auto] items-center gap-2">
      <Picker
        bare
        label={`How part ${i + 1} goes in`}
        value={part.operation}
        options={COMBINE_NAMES}
        onpick={(v) => set("Parts", `volume.combined.parts.${i}.operation`, v)}
      />
      <Picker
        bare
        label={`Region of part ${i + 1}`}
        value={String(part.region)}
        options={named(others)}
        onpick={(v) => set("Parts", `volume.combined.parts.${i}.region`, Number(v))}
      />
      <button
        class="text-soft underline"
        aria-label={`Remove part ${i + 1}`}
        disabled={parts.length === 1}
        onclick={() => set("Parts", "volume.combined.parts", parts.toSpliced(i, 1))}>Remove</button
      >
    </div>
  {/each}
  {#if kind === "combined"}
    <button
      class="btn mt-1"
      onclick={() =>
        set("Parts", "volume.combined.parts", [...parts, { region: others[0].id, operation: "add" }])}
      >Add a part</button
    >
  {/if}
</Section>
{#if kind !== "combined"}
  <Section title="Edge" note="from 0 at the surface to 1 inside">
    {#if kind !== "noise"}
      <ParameterField target={at("edge_m")} />
    {/if}
    <Picker
      label="Profile"
      target={at("profile")}
      value={region.profile ?? "smooth"}
      options={[
        ["linear", "even"],
        ["smooth", "smooth"],
        ["faint", "faint at first"],
        ["full", "full at first"],
      ]}
      onpick={(v) => set("Profile", "profile", v)}
    />
  </Section>
{/if}
<ParameterField target={at("inverted")} />
