<script lang="ts">
  // The look of a surface, of solids or particles.
  import type { Element, Schemas } from "../api/client";
  import ColourField from "../fields/ColourField.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import VectorField from "../fields/VectorField.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  interface Props {
    element: Element;
    /** The elements that are changed with it. */
    ids: number[];
    /** Where the look is below an element. */
    root: string;
    look: Partial<Schemas["Look"]>;
    /** Whether images can be laid on it. */
    images?: boolean;
  }
  let { element, ids, root, look, images = true }: Props = $props();
  let names = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]) => name),
  );
  const FIELDS = ["image", "roughness_image", "metalness_image", "emission_image", "normal_image"] as const;
  /** Whether any image is laid on it. */
  let laid = $derived(FIELDS.some((field) => look[field]));
  const at = (part: string) => ({ element, ids, path: `${root}.${part}` });
</script>

{#snippet image(label: string, field: (typeof FIELDS)[number])}
  <Picker
    {label}
    value={look[field] ?? ""}
    options={[["", "none"], ...names.map((name): [string, string] => [name, name])]}
    target={at(field)}
    onpick={(v) => values.assign(at(field), label, v || null)}
  />
{/snippet}

<Section title="Surface">
  <ColourField label="Albedo" target={at("albedo")} blank={[0.6, 0.6, 0.6]} />
  <NumberField label="Variation" step={0.01} slide={[0, 1]} target={at("variation")} value={0} />
  <NumberField label="Roughness" step={0.01} slide={[0, 1]} target={at("roughness")} value={0.5} />
  <NumberField label="Metalness" step={0.01} slide={[0, 1]} target={at("metalness")} value={0} />
</Section>
{#if images && (names.length > 0 || laid)}
  <Section title="Images">
    {@render image("Albedo image", "image")}
    {@render image("Roughness image", "roughness_image")}
    {@render image("Metalness image", "metalness_image")}
    {@render image("Emission image", "emission_image")}
    {@render image("Normal image", "normal_image")}
    {#if look.normal_image}
      <NumberField
        label="Normal strength"
        step={0.05}
        slide={[0, 2]}
        target={at("normal_strength")}
        value={1}
      />
    {/if}
    {#if laid}
      <NumberField label="Repeats" step={0.5} target={at("image_repeat")} value={1} />
    {/if}
  </Section>
{/if}
<Section title="Glass">
  <NumberField label="Transmission" step={0.01} slide={[0, 1]} target={at("transmission")} value={0} />
  <NumberField label="Refraction" step={0.01} slide={[1, 3]} target={at("refractive_index")} value={1.5} />
</Section>
<Section title="Light of its own">
  <VectorField label="Emission" parts={["red", "green", "blue"]} step={0.5} target={at("emission")} />
</Section>
