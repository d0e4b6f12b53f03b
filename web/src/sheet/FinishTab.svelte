<script lang="ts">
  import ParameterRows from "../fields/ParameterRows.svelte";
  import { kindOf, type Element } from "../api/client";
  import LoopFields from "./LoopFields.svelte";
  import SubdivideFields from "./SubdivideFields.svelte";
  import RetimeFields from "./RetimeFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import { finishOf, STEPS } from "../state/finishing";
  import { keptRuns } from "../state/keptRuns.svelte";
  import { named } from "../state/options";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let { element }: { element: Element } = $props();
  let finish = $derived(finishOf(element)!);
  let operation = $derived(finish.operation);
  let kind = $derived(kindOf(operation));
  let gives = $derived(playback.freshness?.finished?.steps.find((step) => step.step === element.id));
  let moving = $derived(shot.elements.filter((e) => "solid" in e.kind || "particles" in e.kind));
  let others = $derived(shot.elements.filter((e) => e.id !== element.id && !finishOf(e)));
  let kept = $derived(keptRuns.list.map((run): [string, string] => [String(run.number), run.name]));
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.finish.${path}` });
</script>

{#snippet run(label: string, of: "join" | "blend", value: number)}
  <Picker
    {label}
    target={at(`operation.${of}.run`)}
    value={String(value)}
    options={kept}
    onpick={(v) => values.assign(at(`operation.${of}.run`), "Run", Number(v))}
  />
{/snippet}

{#if gives?.problem}
  <p class="mb-2 text-stale">Not taken: this step {gives.problem}. The frames go through as they were.</p>
{/if}
<Section title={STEPS[kind].name} note={STEPS[kind].about}>
  <Picker
    label="Frames of"
    target={at("element")}
    value={String(finish.element ?? "")}
    options={[["", "the whole shot"], ...named(moving)]}
    onpick={(v) => values.assign(at("element"), "Element", v ? Number(v) : null)}
  />
  {#if "join" in operation}
    {@render run("Then", "join", operation.join.run)}
  {:else if "blend" in operation}
    {@render run("Over to", "blend", operation.blend.run)}
  {/if}
  {#if "retime" in operation}
    <RetimeFields {element} {at} />
  {:else if "loop" in operation}
    <LoopFields {element} loop={operation.loop} {at} />
  {:else if "subdivide" in operation}
    <SubdivideFields subdivide={operation.subdivide} {at} />
  {:else}
    <ParameterRows target={at(`operation.${kind}`)} />
  {/if}
  {#if "particle_mesh" in operation && finish.element == null}
    <Tick label="All liquids on one surface, mixed" target={at("operation.particle_mesh.together")} />
  {/if}
  {#if "copies" in operation}
    <ParameterRows target={at("operation.copies.grid")} />
  {:else if "place" in operation}
    <Picker
      label="About"
      target={at("operation.place.about")}
      value={String(operation.place.about ?? "")}
      options={[["", "the origin"], ...named(others)]}
      onpick={(v) => values.assign(at("operation.place.about"), "About", v ? Number(v) : null)}
    />
    <p class="mt-1 text-soft">Place and turn are on the Placement sheet.</p>
  {/if}
</Section>
{#if gives && !gives.problem}
  <p class="text-soft" data-testid="gives">
    Gives {gives.last - gives.first + 1} frames, {gives.first}–{gives.last}{gives.repeats
      ? `; frame ${gives.last + 1} would be frame ${gives.first}`
      : ""}.
  </p>
{/if}
