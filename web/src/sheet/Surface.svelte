<script lang="ts">
  // The look of a surface, of solids or particles.
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Schemas } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import LookLayers from "./LookLayers.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  interface Props {
    element: Element;
    /** The elements that are changed with it. */
    ids: number[];
    /** Where the look is below an element. */
    root: string;
    look: Partial<Schemas["Look"]>;
    /** Whether images can be laid on it: all, none, or that of the albedo alone. */
    images?: boolean | "albedo";
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
  <ParameterField target={at("albedo")} />
  <ParameterField target={at("variation")} />
  <ParameterField target={at("roughness")} />
  <ParameterField target={at("metalness")} />
  <ParameterField target={at("opacity")} />
</Section>
{#if images && (names.length > 0 || laid)}
  <Section title="Images">
    {@render image("Albedo image", "image")}
    {#if images !== "albedo"}
      {@render image("Roughness image", "roughness_image")}
      {@render image("Metalness image", "metalness_image")}
      {@render image("Emission image", "emission_image")}
      {@render image("Normal image", "normal_image")}
    {/if}
    {#if look.normal_image}
      <ParameterField target={at("normal_strength")} />
    {/if}
    {#if laid}
      <ParameterField target={at("image_repeat")} />
    {/if}
  </Section>
{/if}
<Section title="Glass">
  <ParameterField target={at("transmission")} />
  <ParameterField target={at("refractive_index")} />
</Section>
<Section title="Light of its own">
  <ParameterField target={at("emission")} />
</Section>
<LookLayers {element} {ids} {root} {look} />
