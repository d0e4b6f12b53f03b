<script lang="ts">
  import type { Element, Schemas } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  let camera = $derived<Schemas["Camera"]>(
    "camera" in element.is ? element.is.camera : ({} as Schemas["Camera"]),
  );
  let active = $derived(shot.document?.camera === element.id);
  let angle = $derived(
    (2 * Math.atan((0.5 * (camera.sensor_mm ?? 36)) / (camera.focal_length_mm ?? 35)) * 180) / Math.PI,
  );
  let others = $derived(
    shot.elements.filter((e) => e.id !== element.id && !("gravity" in e.is) && !("sky" in e.is)),
  );
  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/camera/${part}`, value);
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
    value={camera.focal_length_mm ?? 35}
    oncommit={(v) => set("Focal length", "focal_length_mm", v)}
  />
  <NumberField
    label="Sensor width"
    unit="mm"
    step={1}
    value={camera.sensor_mm ?? 36}
    oncommit={(v) => set("Sensor width", "sensor_mm", v)}
  />
  <NumberField
    label="F-stop"
    step={0.5}
    blank="all sharp"
    value={camera.f_stop}
    oncommit={(v) => set("F-stop", "f_stop", v)}
    onclear={() => set("F-stop", "f_stop", null)}
  />
  <NumberField
    label="Focus"
    unit="m"
    step={0.1}
    value={camera.focus_m ?? 5}
    oncommit={(v) => set("Focus", "focus_m", v)}
  />
  <NumberField
    label="Exposure"
    unit="stops"
    step={0.1}
    slide={[-6, 6]}
    value={camera.exposure ?? 0}
    oncommit={(v) => set("Exposure", "exposure", v)}
  />
</Section>
<Section title="Aim">
  <Picker
    label="Aimed at"
    value={camera.aim != null ? String(camera.aim) : ""}
    options={[["", "its own turn"], ...others.map((e): [string, string] => [String(e.id), e.name])]}
    onpick={(v) => set("Aim", "aim", v ? Number(v) : null)}
  />
</Section>
