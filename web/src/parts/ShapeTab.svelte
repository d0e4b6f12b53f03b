<script lang="ts">
  import type { Element, Solid, Vector } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { GRID } from "../state/adding";
  import { shot } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let kind = $derived(Object.keys(solid.shape)[0]);
  let values = $derived(Object.values(solid.shape)[0] as Record<string, number | number[] | string>);
  let copies = $derived(solid.copies);
  const names: Record<string, string> = {
    size_m: "Size",
    edge_m: "Edge radius",
    radius_m: "Radius",
    length_m: "Length",
    height_m: "Height",
    ring_m: "Ring radius",
    tube_m: "Tube radius",
    scale: "Scale",
  };

  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/solid/shape/${kind}/${part}`, value);
  const setCopies = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/solid/copies${part}`, value);
</script>

<Section title={kind[0].toUpperCase() + kind.slice(1)}>
  {#each Object.entries(values) as [part, value] (part)}
    {#if Array.isArray(value)}
      <VectorField
        label={names[part] ?? part}
        unit="m"
        {value}
        parts={value.length === 2 ? ["x", "z"] : ["x", "y", "z"]}
        oncommit={(v) => set(names[part], part, v)}
      />
    {:else if typeof value === "number"}
      <NumberField
        label={names[part] ?? part}
        unit={part === "scale" ? "" : "m"}
        step={0.01}
        {value}
        oncommit={(v) => set(names[part], part, v)}
      />
    {:else}
      <p class="text-soft">From the file “{value}”.</p>
    {/if}
  {/each}
</Section>
<Section title="Copies" note={copies ? `${copies.count.reduce((a, b) => a * b, 1)} bodies` : ""}>
  {#if copies}
    <VectorField
      label="Number"
      value={copies.count}
      step={1}
      whole
      oncommit={(v) => setCopies("Copies", "/count", v)}
    />
    <VectorField
      label="Spacing"
      unit="m"
      value={copies.spacing_m as Vector}
      oncommit={(v) => setCopies("Spacing", "/spacing_m", v)}
    />
    <NumberField
      label="Random shift"
      unit="m"
      step={0.01}
      value={copies.jitter_m ?? 0}
      oncommit={(v) => setCopies("Random shift", "/jitter_m", v)}
    />
    <NumberField
      label="Random turn"
      unit="°"
      step={1}
      scale={180 / Math.PI}
      value={copies.turn_rad ?? 0}
      oncommit={(v) => setCopies("Random turn", "/turn_rad", v)}
    />
    <NumberField
      label="Seed"
      step={1}
      whole
      value={copies.seed ?? 0}
      oncommit={(v) => setCopies("Seed", "/seed", Math.max(0, v))}
    />
    <button class="btn mt-1" onclick={() => setCopies("Copies", "", null)}>Only one</button>
  {:else}
    <button class="btn" onclick={() => setCopies("Copies", "", GRID)}>Grid of copies</button>
  {/if}
</Section>
