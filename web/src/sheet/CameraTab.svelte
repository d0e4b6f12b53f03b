<script lang="ts">
  import ParameterRows from "../fields/ParameterRows.svelte";
  import type { Element, Schemas } from "../api/client";
  import AimSection from "./AimSection.svelte";
  import Section from "../fields/Section.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element }: { element: Element } = $props();
  let camera = $derived<Schemas["Camera"]>(
    "camera" in element.kind
      ? (values.now(element).kind as { camera: Schemas["Camera"] }).camera
      : ({} as Schemas["Camera"]),
  );
  let active = $derived(shot.document?.camera === element.id);
  let angle = $derived(
    (2 * Math.atan((0.5 * (camera.sensor_mm ?? 36)) / (camera.focal_length_mm ?? 35)) * 180) / Math.PI,
  );
</script>

{#if active}
  <p class="mb-2 text-lime">This camera renders.</p>
{:else}
  <button
    class="btn mb-2"
    onclick={() =>
      shot.edit(`${element.name} renders`, () => [{ op: "add", path: "/camera", value: element.id }])}
    >Render from this camera</button
  >
{/if}
<Section title="Lens" note={`sees ${angle.toFixed(0)}° across`}>
  <ParameterRows target={{ element, ids: selection.with(element.id), path: "kind.camera" }} />
</Section>
<AimSection {element} />
