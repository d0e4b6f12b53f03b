<script lang="ts">
  // Mass, steering and contacts of particles.
  import ParameterRows from "../fields/ParameterRows.svelte";
  import CarriedFields from "./CarriedFields.svelte";
  import LiquidFields from "./LiquidFields.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Particles, Schemas } from "../api/client";
  import ElementFilterFields from "../fields/ElementFilterFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { options } from "../state/options";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let steering = $derived<Partial<Schemas["Steering"]>>(particles.steering ?? {});
  let contact = $derived<Partial<Schemas["ContactResponse"]>>(particles.contact ?? {});
  let weight = $derived(particles.body?.weight ?? { density_kg_m3: 600 });
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.particles.${path}` });
  const set = (label: string, path: string, value: unknown) => values.assign(at(path), label, value);
  let solids = $derived(shot.elements.filter((e) => "solid" in e.kind));
  let grounds = $derived(options((e) => "solid" in e.kind || "curve" in e.kind));
  const OUTCOMES: [Schemas["ContactOutcome"], string][] = [
    ["bounce", "bounce"],
    ["slide", "slide"],
    ["stick", "stick"],
    ["die", "die"],
  ];
  const LIQUID_OUTCOMES: typeof OUTCOMES = [
    ["slide", "flow along them"],
    ["die", "run off"],
  ];
  // Limits of steering are shown once any steering acts.
  let alive = $derived(
    steering.cruise_speed_m_s != null ||
      (steering.wander ?? 0) > 0 ||
      steering.flock != null ||
      (steering.avoidance_time_s ?? 0) > 0,
  );
</script>

<LiquidFields {element} {particles} />
{#if !particles.liquid}
  <Section title="Weight">
    <Picker
      label="By"
      target={at("body.weight")}
      value={"mass_kg" in weight ? "mass" : "density"}
      options={[
        ["density", "density"],
        ["mass", "mass"],
      ]}
      onpick={(v) => set("Weight", "body.weight", v === "mass" ? { mass_kg: 0.001 } : { density_kg_m3: 600 })}
    />
    {#if "mass_kg" in weight}
      <ParameterField unit="g" scale={1000} target={at("body.weight.mass_kg")} />
    {:else}
      <ParameterField target={at("body.weight.density_kg_m3")} />
    {/if}
    <ParameterField target={at("body.mass_variation")} />
    <ParameterField target={at("body.drag")} />
    <ParameterField target={at("body.max_speed_m_s")} />
  </Section>
  <CarriedFields {element} {particles} />
  <Section title="Of themselves">
    <ParameterField target={at("steering.cruise_speed_m_s")} />
    <ParameterField target={at("steering.wander")} />
    {#if (steering.wander ?? 0) > 0}
      <ParameterField target={at("steering.wander_s")} />
    {/if}
    <ParameterField target={at("steering.avoidance_time_s")} />
    {#if alive}
      <ParameterField target={at("steering.max_acceleration_m_s2")} />
      <ParameterField target={at("steering.horizontal")} />
    {/if}
    <ParameterField target={at("steering.min_distance_m")} />
    <Picker
      label="Stay on"
      target={at("steering.constrained_to")}
      value={steering.constrained_to == null ? "" : String(steering.constrained_to)}
      options={[["", "nothing"], ...grounds]}
      onpick={(v) => set("What they stay on", "steering.constrained_to", v ? Number(v) : null)}
    />
    {#if steering.flock}
      <ParameterRows target={at("steering.flock")} />
      <button class="btn mt-1" onclick={() => set("Flock", "steering.flock", null)}>No flock</button>
    {:else}
      <button class="btn mt-1" onclick={() => set("Flock", "steering.flock", {})}
        >Keep together as a flock</button
      >
    {/if}
  </Section>
{/if}
<Section title="On meeting bodies">
  <ParameterField target={at("contact.enabled")} />
  {#if contact.enabled !== false}
    <Picker
      label="On contact"
      target={at("contact.outcome")}
      value={particles.liquid && contact.outcome !== "die" ? "slide" : (contact.outcome ?? "bounce")}
      options={particles.liquid ? LIQUID_OUTCOMES : OUTCOMES}
      onpick={(v) => set("Outcome", "contact.outcome", v)}
    />
    {#if contact.outcome && contact.outcome !== "bounce"}
      <ParameterField target={at("contact.probability")} />
    {/if}
    {#if !particles.liquid}
      <ParameterField target={at("contact.restitution")} />
      <ParameterField target={at("contact.restitution_variation")} />
      <ParameterField target={at("contact.friction")} />
    {/if}
    <ParameterField target={at("contact.push")} />
    <ParameterField target={at("contact.push_deformables")} />
    <ElementFilterFields
      {element}
      path="kind.particles.contact"
      lists={contact}
      label="Which"
      says="Bodies met"
      offered={solids}
    />
  {/if}
</Section>
