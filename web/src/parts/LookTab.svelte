<script lang="ts">
  import type { Element, Solid } from "../api/client";
  import ColourField from "./ColourField.svelte";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let look = $derived(solid.look ?? {});
  let images = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]) => name),
  );
  let solids = $derived(selection.ids.filter((id) => solidOf(shot.element(id))));
  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, solids, `/is/solid/look/${part}`, value);
</script>

<Section title="Surface">
  <ColourField
    label="Albedo"
    value={look.albedo ?? [0.6, 0.6, 0.6]}
    oncommit={(v) => set("Albedo", "albedo", v)}
  />
  <Picker
    label="Image"
    value={look.image ?? ""}
    options={[["", "none"], ...images.map((name): [string, string] => [name, name])]}
    onpick={(v) => set("Image", "image", v || null)}
  />
  {#if look.image}
    <NumberField
      label="Repeats"
      step={0.5}
      value={look.image_repeat ?? 1}
      oncommit={(v) => set("Repeats", "image_repeat", v)}
    />
  {/if}
  <NumberField
    label="Variation"
    step={0.01}
    slide={[0, 1]}
    value={look.variation ?? 0}
    oncommit={(v) => set("Variation", "variation", v)}
  />
  <NumberField
    label="Roughness"
    step={0.01}
    slide={[0, 1]}
    value={look.roughness ?? 0.5}
    oncommit={(v) => set("Roughness", "roughness", v)}
  />
  <NumberField
    label="Metalness"
    step={0.01}
    slide={[0, 1]}
    value={look.metalness ?? 0}
    oncommit={(v) => set("Metalness", "metalness", v)}
  />
</Section>
<Section title="Glass">
  <NumberField
    label="Transmission"
    step={0.01}
    slide={[0, 1]}
    value={look.transmission ?? 0}
    oncommit={(v) => set("Transmission", "transmission", v)}
  />
  <NumberField
    label="Refraction"
    step={0.01}
    slide={[1, 3]}
    value={look.refraction ?? 1.5}
    oncommit={(v) => set("Refraction", "refraction", v)}
  />
</Section>
<Section title="Light of its own">
  <VectorField
    label="Emission"
    parts={["red", "green", "blue"]}
    step={0.5}
    value={look.emission ?? [0, 0, 0]}
    oncommit={(v) => set("Emission", "emission", v)}
  />
</Section>
