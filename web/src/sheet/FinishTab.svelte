<script lang="ts">
  import { kindOf, type Element } from "../api/client";
  import GridFields from "./GridFields.svelte";
  import LoopFields from "./LoopFields.svelte";
  import SubdivideFields from "./SubdivideFields.svelte";
  import RetimeFields from "./RetimeFields.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
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
  {#if "trim" in operation}
    <NumberField label="From frame" whole fixed least={0} step={1} target={at("operation.trim.from_frame")} />
    <NumberField label="To frame" whole fixed least={0} step={1} target={at("operation.trim.to_frame")} />
  {:else if "retime" in operation}
    <RetimeFields {element} {at} />
  {:else if "shift" in operation}
    <NumberField
      label="Later by"
      unit="frames"
      whole
      fixed
      step={1}
      slide={[-48, 48]}
      target={at("operation.shift.frames")}
    />
  {:else if "join" in operation}
    <Picker
      label="Then"
      target={at("operation.join.run")}
      value={String(operation.join.run)}
      options={kept}
      onpick={(v) => values.assign(at("operation.join.run"), "Run", Number(v))}
    />
  {:else if "blend" in operation}
    <Picker
      label="Over to"
      target={at("operation.blend.run")}
      value={String(operation.blend.run)}
      options={kept}
      onpick={(v) => values.assign(at("operation.blend.run"), "Run", Number(v))}
    />
    <NumberField label="Weight" step={0.05} slide={[0, 1]} target={at("operation.blend.weight")} />
  {:else if "smooth" in operation}
    <NumberField
      label="On each side"
      unit="frames"
      step={0.5}
      slide={[0, 12]}
      target={at("operation.smooth.radius")}
    />
  {:else if "loop" in operation}
    <LoopFields {element} loop={operation.loop} {at} />
  {:else if "smooth_shape" in operation}
    <NumberField
      label="Passes"
      whole
      fixed
      least={1}
      step={1}
      slide={[1, 60]}
      target={at("operation.smooth_shape.passes")}
    />
  {:else if "thicken" in operation}
    <NumberField
      label="Thickness"
      unit="mm"
      scale={1000}
      step={1}
      slide={[0, 100]}
      target={at("operation.thicken.thickness_m")}
    />
    <NumberField label="Outward" step={0.1} slide={[-1, 1]} target={at("operation.thicken.offset")} />
  {:else if "subdivide" in operation}
    <SubdivideFields subdivide={operation.subdivide} {at} />
  {:else if "copies" in operation}
    <NumberField
      label="Each later by"
      unit="frames"
      whole
      fixed
      step={1}
      slide={[-24, 24]}
      target={at("operation.copies.delay_frames")}
    />
    <NumberField
      label="At random, up to"
      unit="frames"
      whole
      fixed
      least={0}
      step={1}
      slide={[0, 240]}
      target={at("operation.copies.delay_jitter_frames")}
    />
    <GridFields at={(part) => at(`operation.copies.grid.${part}`)} />
  {:else if "place" in operation}
    <NumberField label="Size" unit="×" step={0.05} slide={[0.1, 3]} target={at("operation.place.scale")} />
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
