<script lang="ts">
  // Appearance of particles, and how they are judged in the Viewport.
  import ParameterField from "../fields/ParameterField.svelte";
  import { kindOf, type Element, type NameOf, type Particles, type Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import RampStops from "./RampStops.svelte";
  import Section from "../fields/Section.svelte";
  import Surface from "./Surface.svelte";
  import Tick from "../fields/Tick.svelte";
  import { judging } from "../state/judging.svelte";
  import { notices } from "../state/notices.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let appearance = $derived<Partial<Schemas["Appearance"]>>(particles.appearance ?? {});
  let form = $derived(appearance.form ?? "sphere");
  let solids = $derived(shot.elements.filter((e) => "solid" in e.kind));
  let judge = $derived(judging.of(element.id));
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.particles.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    values.assign(at(`appearance.${path}`), label, value);

  function pickForm(next: NameOf<Schemas["Form"]>) {
    if (next === "streak") return set("Form", "form", { streak: { duration_s: 0.02 } });
    if (next !== "instance") return set("Form", "form", next);
    if (!solids.length) return notices.say("There is no solid to copy. Add one first; it may be hidden.");
    return set("Form", "form", { instance: { solids: [solids[0].id] } });
  }

  function toggle(id: number, on: boolean) {
    if (typeof form !== "object" || !("instance" in form)) return;
    const { solids } = form.instance;
    const next = on ? [...solids, id] : solids.filter((other) => other !== id);
    if (next.length === 0) return notices.say("Particles that are copies need one solid at least.");
    return set("Copies", "form.instance.solids", next);
  }

  const bys: [NameOf<Schemas["RampInput"]>, string][] = [
    ["nothing", "nothing"],
    ["life", "share of life"],
    ["speed", "speed"],
    ["random", "chance"],
    ["map", "map where born"],
  ];
  const by = (kind: NameOf<Schemas["RampInput"]>): Schemas["RampInput"] =>
    kind === "speed" ? { speed: { max_speed_m_s: 5 } } : kind;
</script>

<Section title="Drawn as">
  <Picker
    label="Form"
    target={at("appearance.form")}
    value={kindOf(form)}
    options={[
      ["sphere", "dots"],
      ["disc", "discs"],
      ["streak", "streaks along their way"],
      ["instance", "copies of solids"],
      ["nothing", "nothing"],
    ]}
    onpick={pickForm}
  />
  {#if typeof form === "object" && "streak" in form}
    <ParameterField target={at("appearance.form.streak.duration_s")} />
  {:else if typeof form === "object" && "instance" in form}
    {#each solids as solid (solid.id)}
      <Tick
        label={solid.name}
        checked={form.instance.solids.includes(solid.id)}
        onchange={(checked) => toggle(solid.id, checked)}
      />
    {/each}
    {#if form.instance.solids.length > 1}
      <Picker
        label="Which one"
        target={at("appearance.form.instance.choice")}
        value={form.instance.choice ?? "random"}
        options={[
          ["random", "by chance"],
          ["order", "one after the other"],
          ["size", "by size"],
        ]}
        onpick={(v) => set("Copies", "form.instance.choice", v)}
      />
    {/if}
    <Picker
      label="Turned"
      target={at("appearance.form.instance.orientation")}
      value={form.instance.orientation ?? "free"}
      options={[
        ["free", "as they start and spin"],
        ["velocity", "the way they go"],
      ]}
      onpick={(v) => set("Copies", "form.instance.orientation", v)}
    />
  {/if}
</Section>
<Section title="Colour">
  <Picker
    label="By"
    target={at("appearance.colour_by")}
    value={kindOf(appearance.colour_by ?? "nothing")}
    options={bys}
    onpick={(v) => set("Colour", "colour_by", by(v))}
  />
  {#if typeof appearance.colour_by === "object"}
    <ParameterField target={at("appearance.colour_by.speed.max_speed_m_s")} />
  {/if}
  {#if appearance.colour_by && appearance.colour_by !== "nothing"}
    <RampStops {element} list="colours" stops={appearance.colours ?? []} />
  {/if}
</Section>
<Section title="Size">
  <Picker
    label="By"
    target={at("appearance.size_by")}
    value={kindOf(appearance.size_by ?? "nothing")}
    options={bys}
    onpick={(v) => set("Size", "size_by", by(v))}
  />
  {#if typeof appearance.size_by === "object"}
    <ParameterField target={at("appearance.size_by.speed.max_speed_m_s")} />
  {/if}
  {#if appearance.size_by && appearance.size_by !== "nothing"}
    <RampStops {element} list="sizes" stops={appearance.sizes ?? []} />
  {/if}
</Section>
<Section title="In the Viewport" note="the run stays as it is">
  <Picker
    label="Colour tells"
    value={judge.by ?? ""}
    options={[
      ["", "its look"],
      ["age", "age"],
      ["speed", "speed"],
      ["element", "which particles"],
    ]}
    onpick={(v) => judging.set(element.id, { by: (v || null) as typeof judge.by })}
  />
  <NumberField
    label="Draw one of"
    whole
    step={1}
    value={judge.every}
    oncommit={(v) => judging.set(element.id, { every: Math.max(1, Math.min(1000, v)) })}
  />
</Section>
{#if typeof form === "string" || !("instance" in form)}
  <Surface
    {element}
    ids={selection.with(element.id)}
    root="kind.particles.look"
    look={particles.look ?? {}}
    images={particles.emission?.carries_uv ? "albedo" : false}
  />
{/if}
