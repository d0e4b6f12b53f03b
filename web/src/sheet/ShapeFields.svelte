<script lang="ts">
  // The measures of a shape.
  import type { Element, Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import VectorField from "../fields/VectorField.svelte";

  interface Props {
    element: Element;
    ids: number[];
    shape: Schemas["Shape"];
    /** Where the shape lies in the element, such as `kind.solid.shape`. */
    path: string;
  }
  let { element, ids, shape, path }: Props = $props();
  let kind = $derived(Object.keys(shape)[0]);
  let parts = $derived(Object.entries(Object.values(shape)[0] as Record<string, number | number[] | string>));
  const NAMES: Record<string, string> = {
    size_m: "Size",
    edge_m: "Edge radius",
    radius_m: "Radius",
    length_m: "Length",
    height_m: "Height",
    major_radius_m: "Ring radius",
    minor_radius_m: "Tube radius",
    scale: "Scale",
  };
  const at = (part: string) => ({ element, ids, path: `${path}.${kind}.${part}` });
</script>

{#each parts as [part, value] (part)}
  {#if Array.isArray(value) && value.length === 3}
    <VectorField label={NAMES[part] ?? part} unit="m" target={at(part)} />
  {:else if Array.isArray(value)}
    <NumberField label="Size x" unit="m" step={0.1} target={at(`${part}[0]`)} />
    <NumberField label="Size z" unit="m" step={0.1} target={at(`${part}[1]`)} />
  {:else if typeof value === "number"}
    <NumberField
      label={NAMES[part] ?? part}
      unit={part === "scale" ? "" : "m"}
      step={0.01}
      target={at(part)}
    />
  {:else}
    <p class="text-soft">From the file “{value}”.</p>
  {/if}
{/each}
