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
  const at = (part: string) => ({ element, ids: solids, path: `is.solid.look.${part}` });
</script>

<Section title="Surface">
  <ColourField label="Albedo" target={at("albedo")} blank={[0.6, 0.6, 0.6]} />
  <Picker
    label="Image"
    value={look.image ?? ""}
    options={[["", "none"], ...images.map((name): [string, string] => [name, name])]}
    onpick={(v) => shot.set(`Image of ${element.name}`, solids, "/is/solid/look/image", v || null)}
  />
  {#if look.image}
    <NumberField label="Repeats" step={0.5} target={at("image_repeat")} value={1} />
  {/if}
  <NumberField label="Variation" step={0.01} slide={[0, 1]} target={at("variation")} value={0} />
  <NumberField label="Roughness" step={0.01} slide={[0, 1]} target={at("roughness")} value={0.5} />
  <NumberField label="Metalness" step={0.01} slide={[0, 1]} target={at("metalness")} value={0} />
</Section>
<Section title="Glass">
  <NumberField label="Transmission" step={0.01} slide={[0, 1]} target={at("transmission")} value={0} />
  <NumberField label="Refraction" step={0.01} slide={[1, 3]} target={at("refraction")} value={1.5} />
</Section>
<Section title="Light of its own">
  <VectorField label="Emission" parts={["red", "green", "blue"]} step={0.5} target={at("emission")} />
</Section>
