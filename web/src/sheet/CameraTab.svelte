<script lang="ts">
  import type { Element, Schemas } from "../api/client";
  import AimSection from "./AimSection.svelte";
  import NumberField from "../fields/NumberField.svelte";
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
  const at = (part: string) => ({ element, ids: selection.with(element.id), path: `kind.camera.${part}` });
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
  <NumberField
    label="Focal length"
    unit="mm"
    step={1}
    slide={[10, 200]}
    target={at("focal_length_mm")}
    value={35}
  />
  <NumberField label="Sensor width" unit="mm" step={1} target={at("sensor_mm")} value={36} />
  <NumberField
    label="F-stop"
    step={0.5}
    blank="all sharp"
    target={at("f_stop")}
    onclear={() => values.set(at("f_stop"), "F-stop", null)}
  />
  <NumberField label="Focus" unit="m" step={0.1} target={at("focus_distance_m")} value={5} />
  <NumberField label="Exposure" unit="stops" step={0.1} slide={[-6, 6]} target={at("exposure")} value={0} />
</Section>
<AimSection {element} />
