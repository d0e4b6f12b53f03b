<script lang="ts">
  // How particles move, and what they do on meeting bodies.
  import type { Element, Particles, Schemas } from "../api/client";
  import Among from "./Among.svelte";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import SwitchField from "./SwitchField.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let steer = $derived<Partial<Schemas["Steer"]>>(particles.steer ?? {});
  let meet = $derived<Partial<Schemas["Meet"]>>(particles.meet ?? {});
  let weight = $derived(particles.body?.weight ?? { density_kg_m3: 600 });
  const at = (path: string) => ({ element, ids: [element.id], path: `is.particles.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/particles/${path}`, value);
  const clear = (label: string, path: string) => () => values.set(at(path), label, null);
  let solids = $derived(shot.elements.filter((e) => "solid" in e.is));
  let grounds = $derived(
    shot.elements
      .filter((e) => "solid" in e.is || "curve" in e.is)
      .map((e): [string, string] => [String(e.id), e.name]),
  );
  const OUTCOMES: [Schemas["Outcome"], string][] = [
    ["bounce", "bounce"],
    ["slide", "slide"],
    ["stick", "stick"],
    ["die", "die"],
  ];
  // What they do of themselves is shown once they do anything.
  let alive = $derived(
    steer.cruise_m_s != null || (steer.wander ?? 0) > 0 || steer.flock != null || (steer.ahead_s ?? 0) > 0,
  );
</script>

<Section title="Weight">
  <Picker
    label="By"
    value={"mass_kg" in weight ? "mass" : "density"}
    options={[
      ["density", "density"],
      ["mass", "mass"],
    ]}
    onpick={(v) => set("Weight", "body/weight", v === "mass" ? { mass_kg: 0.001 } : { density_kg_m3: 600 })}
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
    target={at("body.fastest_m_s")}
    onclear={clear("Fastest", "body.fastest_m_s")}
  />
</Section>
<Section title="Of themselves">
  <NumberField
    label="Cruise at"
    unit="m/s"
    step={0.1}
    blank="they only drift"
    target={at("steer.cruise_m_s")}
    onclear={clear("Cruise at", "steer.cruise_m_s")}
  />
  <NumberField label="Wander" step={0.05} slide={[0, 1]} target={at("steer.wander")} />
  {#if (steer.wander ?? 0) > 0}
    <NumberField label="Each way for" unit="s" step={0.1} target={at("steer.wander_s")} />
  {/if}
  <NumberField label="Look ahead" unit="s" step={0.1} target={at("steer.ahead_s")} />
  {#if alive}
    <NumberField label="Agility" unit="m/s²" step={0.5} target={at("steer.agility_m_s2")} />
    <SwitchField label="Level" target={at("steer.level")} />
  {/if}
  <NumberField label="Keep apart" unit="mm" scale={1000} step={5} target={at("steer.apart_m")} />
  <Picker
    label="Stay on"
    value={steer.on == null ? "" : String(steer.on)}
    options={[["", "nothing"], ...grounds]}
    onpick={(v) => set("What they stay on", "steer/on", v ? Number(v) : null)}
  />
  {#if steer.flock}
    <NumberField label="Sight" unit="m" step={0.1} target={at("steer.flock.sight_m")} />
    <NumberField label="Distance" unit="m" step={0.05} target={at("steer.flock.distance_m")} />
    <NumberField label="Apart" step={0.05} slide={[0, 2]} target={at("steer.flock.apart")} />
    <NumberField label="Same way" step={0.05} slide={[0, 2]} target={at("steer.flock.align")} />
    <NumberField label="Together" step={0.05} slide={[0, 2]} target={at("steer.flock.together")} />
    <button class="btn mt-1" onclick={() => set("Flock", "steer/flock", null)}>No flock</button>
  {:else}
    <button class="btn mt-1" onclick={() => set("Flock", "steer/flock", {})}>Keep together as a flock</button>
  {/if}
</Section>
<Section title="On meeting bodies">
  <SwitchField label="Meet bodies" target={at("meet.on")} />
  {#if meet.on !== false}
    <Picker
      label="They"
      value={meet.outcome ?? "bounce"}
      options={OUTCOMES}
      onpick={(v) => set("Outcome", "meet/outcome", v)}
    />
    {#if meet.outcome && meet.outcome !== "bounce"}
      <NumberField label="Share that do" step={0.05} slide={[0, 1]} target={at("meet.share")} />
    {/if}
    <NumberField label="Bounce" step={0.05} slide={[0, 1]} target={at("meet.bounce")} />
    <NumberField label="± bounce" step={0.05} slide={[0, 1]} target={at("meet.bounce_variation")} />
    <NumberField label="Friction" step={0.05} slide={[0, 2]} target={at("meet.friction")} />
    <SwitchField label="Push free bodies" target={at("meet.push")} />
    <Among
      {element}
      path="/is/particles/meet"
      lists={meet}
      label="Which"
      says="Bodies met"
      offered={solids}
    />
  {/if}
</Section>
