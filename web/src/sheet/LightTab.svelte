<script lang="ts">
  import type { Element } from "../api/client";
  import ColourField from "../fields/ColourField.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Section from "../fields/Section.svelte";
  import { SKY } from "../state/addables";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element }: { element: Element } = $props();
  let kind = $derived(element.kind);
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.${path}` });
</script>

{#if "sun" in kind}
  <Section title="Sun" note="shines along its own −y">
    <NumberField label="Irradiance" unit="W/m²" step={0.1} slide={[0, 12]} target={at("sun.irradiance")} />
    <ColourField label="Colour" target={at("sun.colour")} />
    <NumberField
      label="Angular size"
      unit="°"
      step={0.1}
      scale={180 / Math.PI}
      target={at("sun.angle_rad")}
    />
  </Section>
{:else if "sky" in kind}
  <Section title="Sky">
    <NumberField label="Strength" step={0.05} slide={[0, 4]} target={at("sky.strength")} />
    {#if "gradient" in kind.sky.source}
      <ColourField label="Zenith" target={at("sky.source.gradient.zenith")} />
      <ColourField label="Horizon" target={at("sky.source.gradient.horizon")} />
      <ColourField label="Ground" target={at("sky.source.gradient.ground")} />
      <p class="mt-1 text-soft">Drop an EXR or HDR image in the Viewport to use it as the sky.</p>
    {:else}
      <p class="text-soft">From the image “{kind.sky.source.image.asset}”.</p>
      <button class="btn mt-1" onclick={() => values.assign(at("sky.source"), "Sky", SKY)}
        >Use a gradient</button
      >
    {/if}
  </Section>
{:else if "area_light" in kind}
  <Section title="Area light" note="shines along its own −y">
    <NumberField label="Size x" unit="m" target={at("area_light.size_m[0]")} />
    <NumberField label="Size z" unit="m" target={at("area_light.size_m[1]")} />
    <NumberField label="Radiance" unit="W/m² sr" step={0.5} target={at("area_light.radiance")} />
    <ColourField label="Colour" target={at("area_light.colour")} />
  </Section>
{/if}
