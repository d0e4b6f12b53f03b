<script lang="ts">
  // The liquid that carries particles: as spray, foam and bubbles.
  import ParameterRows from "../fields/ParameterRows.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import type { Element, Particles, Schemas } from "../api/client";
  import { PHASES } from "../state/liquid";
  import { options } from "../state/options";
  import { selection } from "../state/selection.svelte";
  import { values } from "../state/values.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.particles.${path}` });
  let liquids = $derived(options((e) => "particles" in e.kind && e.kind.particles.liquid != null));
  let carried = $derived(particles.carried);
  let phases = $derived(carried?.phases ?? PHASES.map(([phase]) => phase));

  const carry = (liquid: string) =>
    values.assign(at("carried"), "Carried by", liquid ? { ...carried, liquid: Number(liquid) } : null);
  const tick = (phase: Schemas["Phase"], on: boolean) =>
    values.assign(
      at("carried.phases"),
      "Phases",
      PHASES.map(([of]) => of).filter((of) => (of === phase ? on : phases.includes(of))),
    );
</script>

{#if liquids.length > 0 || carried}
  <Section title="In a liquid" note={carried ? "foam alone grows older" : ""}>
    <Picker
      label="Carried by"
      target={at("carried")}
      value={carried ? String(carried.liquid) : ""}
      options={[["", "none"], ...liquids]}
      onpick={carry}
    />
    {#if carried}
      <ParameterRows target={at("carried")} />
      {#each PHASES as [phase, words] (phase)}
        <Tick label={words} checked={phases.includes(phase)} onchange={(on) => tick(phase, on)} />
      {/each}
    {/if}
  </Section>
{/if}
