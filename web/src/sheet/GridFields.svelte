<script lang="ts">
  // A grid of copies.
  import NumberField from "../fields/NumberField.svelte";
  import VectorField from "../fields/VectorField.svelte";
  import type { Target } from "../state/target";

  let { at }: { at: (part: string) => Target } = $props();
</script>

<VectorField label="Number" step={1} whole fixed least={1} target={at("count")} />
<VectorField label="Spacing" unit="m" target={at("spacing_m")} />
<NumberField label="Random shift" unit="m" step={0.01} target={at("position_jitter_m")} />
<NumberField
  label="Random turn"
  unit="°"
  step={1}
  scale={180 / Math.PI}
  target={at("orientation_jitter_rad")}
/>
<NumberField label="Seed" step={1} whole target={at("seed")} />
