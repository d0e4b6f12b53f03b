<script lang="ts">
  import type { Element, Vector } from "../api/client";
  import ColourField from "./ColourField.svelte";
  import NumberField from "./NumberField.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  let is = $derived(element.is);
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/${path}`, value);
</script>

{#if "gravity" in is}
  <Section title="Gravity">
    <VectorField
      label="Acceleration"
      unit="m/s²"
      value={is.gravity.acceleration as Vector}
      oncommit={(v) => set("Acceleration", "gravity/acceleration", v)}
    />
  </Section>
{:else if "sun" in is}
  <Section title="Sun" note="shines along its own −y">
    <NumberField
      label="Irradiance"
      unit="W/m²"
      step={0.1}
      slide={[0, 12]}
      value={is.sun.irradiance}
      oncommit={(v) => set("Irradiance", "sun/irradiance", v)}
    />
    <ColourField label="Colour" value={is.sun.colour} oncommit={(v) => set("Colour", "sun/colour", v)} />
    <NumberField
      label="Angular size"
      unit="°"
      step={0.1}
      scale={180 / Math.PI}
      value={is.sun.angle_rad}
      oncommit={(v) => set("Angular size", "sun/angle_rad", v)}
    />
  </Section>
{:else if "sky" in is}
  <Section title="Sky">
    <NumberField
      label="Strength"
      step={0.05}
      slide={[0, 4]}
      value={is.sky.strength}
      oncommit={(v) => set("Strength", "sky/strength", v)}
    />
    {#if "gradient" in is.sky.source}
      <ColourField
        label="Zenith"
        value={is.sky.source.gradient.zenith}
        oncommit={(v) => set("Zenith", "sky/source/gradient/zenith", v)}
      />
      <ColourField
        label="Horizon"
        value={is.sky.source.gradient.horizon}
        oncommit={(v) => set("Horizon", "sky/source/gradient/horizon", v)}
      />
      <ColourField
        label="Ground"
        value={is.sky.source.gradient.ground}
        oncommit={(v) => set("Ground", "sky/source/gradient/ground", v)}
      />
      <p class="mt-1 text-soft">Drop an EXR or HDR image on the Stage to use it as the sky.</p>
    {:else}
      <p class="text-soft">From the image “{is.sky.source.image.asset}”.</p>
      <button
        class="btn mt-1"
        onclick={() =>
          set("Sky", "sky/source", {
            gradient: { zenith: [0.22, 0.32, 0.48], horizon: [0.62, 0.66, 0.7], ground: [0.16, 0.15, 0.14] },
          })}>Use a gradient</button
      >
    {/if}
  </Section>
{:else if "area_light" in is}
  <Section title="Area light" note="shines along its own −y">
    <VectorField
      label="Size"
      unit="m"
      parts={["x", "z"]}
      value={is.area_light.size_m}
      oncommit={(v) => set("Size", "area_light/size_m", v)}
    />
    <NumberField
      label="Radiance"
      unit="W/m² sr"
      step={0.5}
      value={is.area_light.radiance}
      oncommit={(v) => set("Radiance", "area_light/radiance", v)}
    />
    <ColourField
      label="Colour"
      value={is.area_light.colour}
      oncommit={(v) => set("Colour", "area_light/colour", v)}
    />
  </Section>
{/if}
