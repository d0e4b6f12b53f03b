<script lang="ts">
  // Where the UVs of a solid come from, and how far they stretch images.
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { api, type Element, type Schemas, type Solid } from "../api/client";
  import { answered } from "../state/asking";
  import { colouring } from "../state/colouring.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let measures = $state.raw<Schemas["UvMeasures"] | null>(null);
  let ids = $derived(selection.ids.filter((id) => solidOf(shot.element(id))));
  const layouts: [Schemas["UvLayout"], string][] = [
    ["own", "of the shape"],
    ["planar_x", "seen along x"],
    ["planar_y", "seen along y"],
    ["planar_z", "seen along z"],
    ["box", "along the nearest axis"],
    ["cylinder", "rolled round y"],
    ["sphere", "longitude and latitude"],
    ["unwrapped", "laid flat in pieces"],
  ];
  $effect(() => {
    void shot.state?.revision;
    return answered(api.uvs(shot.id!, element.id), (found) => (measures = found));
  });
  const percent = (stretch: number) => `${Math.round(100 * (Math.exp(stretch) - 1))} %`;
</script>

<Section title="UVs" note="of the mesh at rest">
  <Picker
    label="Laid"
    value={solid.uvs ?? "own"}
    options={layouts}
    onpick={(v) => shot.set(`UVs of ${element.name}`, ids, "/kind/solid/uvs", v)}
  />
  {#if measures && measures.pieces > 0}
    <p class="text-soft" data-testid="uv-measures">
      {measures.pieces === 1 ? "One piece" : `${measures.pieces} pieces`}; images are stretched by {percent(
        measures.mean,
      )} on average, {percent(measures.most)} at most.
    </p>
  {/if}
  <button
    class="btn mt-1"
    aria-pressed={colouring.checker}
    onclick={() => (colouring.checker = !colouring.checker)}
    >{colouring.checker ? "Hide the checker" : "Show a checker"}</button
  >
</Section>
