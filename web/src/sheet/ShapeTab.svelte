<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import ParameterRows from "../fields/ParameterRows.svelte";
  import PackFields from "./PackFields.svelte";
  import ShapeFields from "./ShapeFields.svelte";
  import UvFields from "./UvFields.svelte";
  import ToParticlesFields from "./ToParticlesFields.svelte";
  import type { Element, Solid } from "../api/client";
  import Section from "../fields/Section.svelte";
  import { standAgain, turnIntoParticles } from "../state/converting";
  import { GRID } from "../state/addables";
  import { playback } from "../state/playback.svelte";
  import { restInShape, takeShape } from "../state/takingIn";
  import { countOf, deforms } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let kind = $derived(Object.keys(solid.shape)[0]);
  let copies = $derived(solid.copies);
  let placed = $derived(solid.placed?.length ?? 0);
  let there = $derived(playback.stateOf(playback.frame) !== "missing");
  const of = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.solid.${path}` });
  const set = (label: string, part: string, value: unknown) => values.assign(of(part), label, value);
</script>

<Section title={kind[0].toUpperCase() + kind.slice(1)}>
  <ShapeFields {element} ids={selection.with(element.id)} shape={solid.shape} path="kind.solid.shape" />
</Section>
<UvFields {element} {solid} />
{#if there}
  <Section title={`At frame ${playback.frame}`} note="its finished shape, where it is then">
    <div class="flex flex-wrap gap-1.5">
      <button class="btn" onclick={() => takeShape(element, playback.frame)}>Make a mesh of it</button>
      {#if deforms(element) && countOf(element) === 1}
        <button class="btn" onclick={() => restInShape(element, playback.frame)}>Let it rest like this</button
        >
      {/if}
    </div>
  </Section>
{/if}
<Section title="Copies" note={copies || placed > 0 ? `${countOf(element)} bodies` : ""}>
  {#if solid.from_particles != null}
    <ParameterField target={of("from_particles")} />
    <p class="mb-1 text-soft">Its bodies come from particles.</p>
    <ToParticlesFields {element} back={solid.to_particles ?? null} />
    <button class="btn" onclick={() => standAgain(element)}>Stand in the shot itself</button>
  {:else if placed > 0}
    <p class="mb-1 text-soft">Each is placed on its own.</p>
    <button class="btn" onclick={() => set("Copies", "placed", [])}>Only one</button>
    <PackFields {element} />
  {:else if copies}
    <ParameterRows target={of("copies")} />
    <div class="mt-1 flex flex-wrap gap-1.5">
      <button class="btn" onclick={() => set("Copies", "copies", null)}>Only one</button>
      <button class="btn" onclick={() => turnIntoParticles(element)}>Turn into particles</button>
    </div>
  {:else}
    <div class="flex flex-wrap gap-1.5">
      <button class="btn" onclick={() => set("Copies", "copies", GRID)}>Grid of copies</button>
      <button class="btn" onclick={() => set("Bodies from particles", "from_particles", 1000)}
        >From particles</button
      >
    </div>
    <PackFields {element} />
  {/if}
</Section>
