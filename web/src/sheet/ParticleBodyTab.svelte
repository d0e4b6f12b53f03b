<script lang="ts">
  // Mass, steering and contacts of particles.
  import type { Element, Particles, Schemas } from "../api/client";
  import ElementFilterFields from "../fields/ElementFilterFields.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import SwitchField from "../fields/SwitchField.svelte";
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
  const clear = (label: string, path: string) => () => values.set(at(path), label, null);
  let solids = $derived(shot.elements.filter((e) => "solid" in e.kind));
  let grounds = $derived(options((e) => "solid" in e.kind || "curve" in e.kind));
  const OUTCOMES: [Schemas["ContactOutcome"], string][] = [
    ["bounce", "bounce"],
    ["slide", "slide"],
    ["stick", "stick"],
    ["die", "die"],
  ];
  // Limits of steering are shown once any steering acts.
  let alive = $derived(
    steering.cruise_speed_m_s != null ||
      (steering.wander ?? 0) > 0 ||
      steering.flock != null ||
      (steering.avoidance_time_s ?? 0) > 0,
  );
</script>

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
    <NumberField label="Mass" unit="g" scale={1000} step={0.1} target={at("body.weight.mass_kg")} />
  {:else}
    <NumberField label="Density" unit="kg/m³" step={10} target={at("body.weight.density_kg_m3")} />
  {/if}
  <NumberField label="± mass" step={0.05} slide={[0, 1]} target={at("body.mass_variation")} />
  <NumberField label="Drag" step={0.05} target={at("body.drag")} />
  <NumberField
    label="Fastest"
    unit="m/s"
    step={0.5}
    blank="any speed"
    target={at("body.max_speed_m_s")}
    onclear={clear("Fastest", "body.max_speed_m_s")}
  />
</Section>
<Section title="Of themselves">
  <NumberField
    label="Cruise at"
    unit="m/s"
    step={0.1}
    blank="they only drift"
    target={at("steering.cruise_speed_m_s")}
    onclear={clear("Cruise at", "steering.cruise_speed_m_s")}
  />
  <NumberField label="Wander" step={0.05} slide={[0, 1]} target={at("steering.wander")} />
  {#if (steering.wander ?? 0) > 0}
    <NumberField label="Each way for" unit="s" step={0.1} target={at("steering.wander_s")} />
  {/if}
  <NumberField label="Look ahead" unit="s" step={0.1} target={at("steering.avoidance_time_s")} />
  {#if alive}
    <NumberField label="Agility" unit="m/s²" step={0.5} target={at("steering.max_acceleration_m_s2")} />
    <SwitchField label="Level" target={at("steering.horizontal")} />
  {/if}
  <NumberField label="Keep apart" unit="mm" scale={1000} step={5} target={at("steering.min_distance_m")} />
  <Picker
    label="Stay on"
    target={at("steering.constrained_to")}
    value={steering.constrained_to == null ? "" : String(steering.constrained_to)}
    options={[["", "nothing"], ...grounds]}
    onpick={(v) => set("What they stay on", "steering.constrained_to", v ? Number(v) : null)}
  />
  {#if steering.flock}
    <NumberField label="Sight" unit="m" step={0.1} target={at("steering.flock.perception_radius_m")} />
    <NumberField label="Distance" unit="m" step={0.05} target={at("steering.flock.distance_m")} />
    <NumberField label="Apart" step={0.05} slide={[0, 2]} target={at("steering.flock.separation")} />
    <NumberField label="Same way" step={0.05} slide={[0, 2]} target={at("steering.flock.alignment")} />
    <NumberField label="Together" step={0.05} slide={[0, 2]} target={at("steering.flock.cohesion")} />
    <button class="btn mt-1" onclick={() => set("Flock", "steering.flock", null)}>No flock</button>
  {:else}
    <button class="btn mt-1" onclick={() => set("Flock", "steering.flock", {})}
      >Keep together as a flock</button
    >
  {/if}
</Section>
<Section title="On meeting bodies">
  <SwitchField label="Meet bodies" target={at("contact.enabled")} />
  {#if contact.enabled !== false}
    <Picker
      label="On contact"
      target={at("contact.outcome")}
      value={contact.outcome ?? "bounce"}
      options={OUTCOMES}
      onpick={(v) => set("Outcome", "contact.outcome", v)}
    />
    {#if contact.outcome && contact.outcome !== "bounce"}
      <NumberField label="Share that do" step={0.05} slide={[0, 1]} target={at("contact.probability")} />
    {/if}
    <NumberField label="Bounce" step={0.05} slide={[0, 1]} target={at("contact.restitution")} />
    <NumberField label="± bounce" step={0.05} slide={[0, 1]} target={at("contact.restitution_variation")} />
    <NumberField label="Friction" step={0.05} slide={[0, 2]} target={at("contact.friction")} />
    <SwitchField label="Push free bodies" target={at("contact.push")} />
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
