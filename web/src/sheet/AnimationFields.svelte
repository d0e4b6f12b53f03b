<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Schemas, Solid } from "../api/client";
  import Choice from "../fields/Choice.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let { element, solid, solids }: { element: Element; solid: Solid; solids: number[] } = $props();
  let animation = $derived(solid.animation);

  const at = (part: string) => ({ element, ids: solids, path: `kind.solid.animation.${part}` });
  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, solids, `/kind/solid/animation${part}`, value);
  const ends: [Schemas["BeyondEnd"], string][] = [
    ["hold", "Holds"],
    ["repeat", "Goes round"],
    ["back_and_forth", "To and fro"],
  ];
</script>

<Section title="Animated by a file" note={animation ? "its surface pushes and carries" : ""}>
  <Tick
    label="The file moves the mesh"
    checked={animation != null}
    onchange={(on) =>
      set(
        on ? "Animation" : "No animation",
        "",
        on ? { start_frame: shot.document?.timing.first ?? 1 } : null,
      )}
  />
  {#if animation}
    <NumberField
      label="Starts at"
      unit="frame"
      step={1}
      value={animation.start_frame ?? 1}
      oncommit={(v) => set("Start", "/start_frame", Math.round(v))}
    />
    <ParameterField target={at("rate")} />
    <ParameterField target={at("speed")} />
    {#each [["before", "Before"], ["after", "After"]] as const as [part, label] (part)}
      <Choice
        {label}
        differ={values.differ(at(part))}
        value={animation[part] ?? "hold"}
        options={ends}
        onpick={(v) => set(label, `/${part}`, v)}
      />
    {/each}
    <Choice
      label="Between"
      differ={values.differ(at("between"))}
      value={animation.between ?? "smooth"}
      options={[
        ["smooth", "Smooth"],
        ["linear", "Straight"],
      ]}
      onpick={(v) => set("Motion between frames", "/between", v)}
    />
  {/if}
</Section>
