<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import { api, type Element, type Physics, type Solid } from "../api/client";
  import Choice from "../fields/Choice.svelte";
  import Plot from "./Plot.svelte";
  import Section from "../fields/Section.svelte";
  import AnimationFields from "./AnimationFields.svelte";
  import ClothFields from "./ClothFields.svelte";
  import SoftFields from "./SoftFields.svelte";
  import SwayFields from "./SwayFields.svelte";
  import ActingForces from "./ActingForces.svelte";
  import WakeFields from "./WakeFields.svelte";
  import { answered } from "../state/asking";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { madeAs, type MadeAs, shot, solidOf } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { startOf } from "../state/madeAs";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let body = $derived(solid.body ?? {});
  let physics = $state.raw<Physics | null>(null);
  let track = $state.raw<{ frames: number[]; height: number[]; speed: number[] } | null>(null);
  let byFile = $derived(
    "mesh" in solid.shape && shot.document?.assets?.[solid.shape.mesh.asset]?.kind === "mesh_sequence",
  );
  let free = $derived((body.moves ?? "free") === "free");
  let made = $derived(madeAs(element));
  let solids = $derived(selection.ids.filter((id) => solidOf(shot.element(id))));

  $effect(() => {
    void shot.state?.revision;
    return answered(api.physics(shot.id!, element.id), (found) => (physics = found ?? physics));
  });

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    if (run === undefined || playback.computing) return;
    return answered(api.track(run, element.id, 0), (found) => {
      if (found) track = { frames: found.frames, height: found.height_m, speed: found.speed_m_s };
    });
  });

  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, solids, `/kind/solid/body/${part}`, value);
  /** Makes the selected solids rigid, cloth or soft, with edges and cells by their size. */
  function make(as: MadeAs) {
    const label = `${{ rigid: "Rigid body", cloth: "Cloth", soft: "Soft body" }[as]} of ${element.name}`;
    void shot.change(label, async ({ id, revision, document }) => {
      const each = solids.map(async (of) => {
        const i = document.elements.findIndex((e) => e.id === of);
        const made = as === "rigid" ? null : startOf(as, (await api.physics(id, of)).size_m);
        return (["cloth", "soft"] as const).map((kind) => ({
          op: "add" as const,
          path: `/elements/${i}/kind/solid/${kind}`,
          value: as === kind ? made : null,
        }));
      });
      return api.patch(id, revision, label, (await Promise.all(each)).flat());
    });
  }
  const at = (part: string) => ({ element, ids: solids, path: `kind.solid.body.${part}` });
</script>

<Choice
  label="Moves"
  differ={values.differ(at("moves"))}
  value={body.moves ?? "free"}
  options={[
    ["still", "Still"],
    ["animated", "Animated"],
    ["free", "Free"],
  ]}
  onpick={(v) => set("Movement", "moves", v)}
/>
{#if free}
  <div class="h-1"></div>
  <Choice
    label="Made as"
    value={made}
    options={[
      ["rigid", "Rigid"],
      ["cloth", "Cloth"],
      ["soft", "Soft"],
    ]}
    onpick={(v) => make(v as MadeAs)}
  />
{/if}
{#if body.moves === "animated" && byFile}
  <div class="h-2"></div>
  <AnimationFields {element} {solid} {solids} />
{/if}
{#if made !== "rigid"}
  {@const alike = solids.filter((id) => madeAs(shot.element(id)) === made)}
  <div class="h-2"></div>
  {#if made === "cloth"}
    <ClothFields {element} {solid} solids={alike} />
  {:else}
    <SoftFields {element} {solid} solids={alike} />
  {/if}
  <ActingForces {element} />
{:else}
  {#if body.moves !== "still"}
    <WakeFields {element} {body} {solids} />
  {/if}
  <div class="mt-1 mb-3">
    <Choice
      label="Collides as"
      differ={values.differ(at("collision"))}
      value={body.collision ?? "auto"}
      options={[
        ["auto", "Auto"],
        ["sphere", "Sphere"],
        ["box", "Box"],
        ["hull", "Hull"],
        ["exact", "Exact"],
      ]}
      onpick={(v) => set("Collision shape", "collision", v)}
    />
    {#if (body.collision ?? "auto") === "auto" && physics}<p class="mt-0.5 pl-[116px] text-faint">
        as {physics.collides_as}
      </p>{/if}
  </div>
  <Section title="Weight" note={physics ? `${Number(physics.volume_m3.toPrecision(3))} m³` : ""}>
    <ParameterField
      target={at("weight.density_kg_m3")}
      stored={"density_kg_m3" in (body.weight ?? {})}
      computed={physics?.density_kg_m3}
      oncommit={(v) => set("Density", "weight", { density_kg_m3: v })}
    />
    <ParameterField
      target={at("weight.mass_kg")}
      stored={"mass_kg" in (body.weight ?? {})}
      computed={physics?.mass_kg}
      oncommit={(v) => set("Mass", "weight", { mass_kg: v })}
    />
  </Section>
  <Section
    title="Contact"
    note={physics?.pair
      ? `with ${physics.pair.with}: friction ${physics.pair.friction.toFixed(2)}, bounce ${physics.pair.restitution.toFixed(2)}`
      : ""}
  >
    <ParameterField target={at("friction")} />
    <ParameterField target={at("restitution")} />
    <ParameterField
      blank={physics ? `by size: ${(1e3 * physics.margin_m).toFixed(2)}` : ""}
      target={at("margin_m")}
    />
    <ParameterField target={at("breaking_impulse_n_s")} />
    {#if body.breaking_impulse_n_s != null}
      <p class="pl-[116px] text-faint">
        {physics && body.moves !== "still"
          ? `It breaks when stopped from ${Number((body.breaking_impulse_n_s / physics.mass_kg).toPrecision(2))} m/s, and is gone.`
          : "It is gone when it breaks."}
      </p>
    {/if}
  </Section>
  {#if body.moves !== "still"}
    <Section
      title="In moving air"
      note={physics ? `shows ${Number(physics.wind_area_m2.toPrecision(3))} m²` : ""}
    >
      <ParameterField blank={physics ? `by shape: ${physics.drag.toFixed(2)}` : ""} target={at("drag")} />
    </Section>
    <Section
      title={body.moves === "animated" ? "When let go" : body.wake ? "When it wakes" : "At the start"}
      note={body.launch_velocity ? "" : body.moves === "animated" ? "from its own motion" : "at rest"}
    >
      <ParameterField target={at("launch_velocity")} />
      <ParameterField target={at("launch_angular_velocity")} />
      {#if body.launch_velocity || body.launch_angular_velocity}
        <button
          class="btn mt-1"
          onclick={() =>
            shot.edit(`Launch of ${element.name} cleared`, (document) => {
              const i = document.elements.findIndex((e) => e.id === element.id);
              return [
                { op: "add", path: `/elements/${i}/kind/solid/body/launch_velocity`, value: null },
                { op: "add", path: `/elements/${i}/kind/solid/body/launch_angular_velocity`, value: null },
              ];
            })}>From its own motion</button
        >
      {/if}
    </Section>
    <ActingForces {element} />
    {#if track && track.frames.length > 1}
      <Section title="Measured in this run" note="speed, m/s · height, m">
        <Plot
          frames={track.frames}
          lines={[
            { name: "speed", values: track.speed, colour: "var(--solid)" },
            { name: "height", values: track.height, colour: "var(--aqua)" },
          ]}
          at={playback.frame}
        />
      </Section>
    {/if}
  {/if}
  <SwayFields {element} {solid} />
{/if}
