<script lang="ts">
  import ParameterRows from "../fields/ParameterRows.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import { kindOf, type Element, type Schemas } from "../api/client";
  import ElementFilterFields from "../fields/ElementFilterFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { FORCE_NAMES } from "../state/forces";
  import { named } from "../state/options";
  import { shot, solidOf } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element }: { element: Element } = $props();
  let force = $derived(("force" in element.kind ? element.kind.force : {}) as Schemas["Force"]);
  let kind = $derived(kindOf(force.kind));
  let settings = $derived((force.kind as Record<string, Record<string, unknown>>)[kind]);
  let push = $derived(settings.push as Schemas["Push"] | undefined);
  let regions = $derived(shot.elements.filter((e) => "region" in e.kind));
  let solids = $derived(shot.elements.filter((e) => solidOf(e) && solidOf(e)?.body?.moves !== "still"));
  let particleElements = $derived(shot.elements.filter((e) => "particles" in e.kind));
  let targets = $derived(shot.elements.filter((e) => "solid" in e.kind || "curve" in e.kind));
  let curves = $derived(shot.elements.filter((e) => "curve" in e.kind));
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.force.${path}` });
  const set = (label: string, path: string, value: unknown) => values.assign(at(path), label, value);
  let kinds = $derived<[Schemas["ElementFilter"], string][]>([
    ...(solids.length > 1 ? [[{ kind: "solid" }, "All solids"] as [Schemas["ElementFilter"], string]] : []),
    ...(particleElements.length > 0
      ? [[{ kind: "particles" }, "All particles"] as [Schemas["ElementFilter"], string]]
      : []),
  ]);
</script>

<Section title={FORCE_NAMES[kind]} note={kind === "pull" || kind === "wind" ? "along its own −y" : ""}>
  <ParameterField target={at("enabled")} />
  <ParameterField target={at("strength")} />
  <ParameterRows target={at(`kind.${kind}`)} />
  {#if kind === "attract"}
    <Picker
      label="Towards"
      target={at("kind.attract.target")}
      value={settings.target == null ? "" : String(settings.target)}
      options={[["", "its own place"], ...named(targets)]}
      onpick={(v) => set("Target", "kind.attract.target", v ? Number(v) : null)}
    />
  {:else if kind === "along"}
    <Picker
      label="Curve"
      target={at("kind.along.curve")}
      value={String(settings.curve)}
      options={named(curves)}
      onpick={(v) => set("Curve", "kind.along.curve", Number(v))}
    />
  {/if}
</Section>
{#if push}
  <Section title="How it acts">
    <Picker
      label="By"
      target={at(`kind.${kind}.push`)}
      value={push === "acceleration" ? "acceleration" : "air"}
      options={[
        ["air", "drag in moving air"],
        ["acceleration", "plain acceleration"],
      ]}
      onpick={(v) =>
        set(
          "How it acts",
          `kind.${kind}.push`,
          v === "air" ? { air: { density_kg_m3: 1.2 } } : "acceleration",
        )}
    />
    {#if push !== "acceleration"}
      <ParameterField target={at(`kind.${kind}.push.air.density_kg_m3`)} />
    {/if}
  </Section>
{/if}
<Section title="When and where">
  <ParameterField target={at("from_frame")} />
  <ParameterField target={at("to_frame")} />
  <Picker
    label="Region"
    target={at("region")}
    value={force.region == null ? "" : String(force.region)}
    options={[["", "everywhere"], ...named(regions)]}
    onpick={(v) => set("Region", "region", v ? Number(v) : null)}
  />
  <ParameterField target={at("order")} />
</Section>
<Section title="What it acts on">
  <ElementFilterFields
    {element}
    path="kind.force"
    lists={force}
    label="Acts on"
    says="What it acts on"
    offered={[...solids, ...particleElements]}
    {kinds}
  />
</Section>
