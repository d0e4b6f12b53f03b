<script lang="ts">
  // What makes particles a liquid.
  import ParameterRows from "../fields/ParameterRows.svelte";
  import Section from "../fields/Section.svelte";
  import type { Element, Operation, Particles } from "../api/client";
  import { asGrains, asLiquid } from "../state/liquid";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";
  import { meant } from "../state/target";
  import Enough from "./Enough.svelte";
  import LiquidFactors from "./LiquidFactors.svelte";
  import LiquidForecast from "./LiquidForecast.svelte";
  import MaterialFields from "./MaterialFields.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.particles.${path}` });

  let liquids = $derived(
    shot.elements
      .filter(
        ({ id, kind }) =>
          selection.with(element.id).includes(id) && "particles" in kind && kind.particles.liquid,
      )
      .map(({ id }) => id),
  );

  /** Grains become a liquid, or a liquid grains. */
  function make(label: string, as: (particles: Particles) => Particles) {
    const all = meant(at("liquid")).map(({ id }) => id);
    const change = ({ id, kind }: Element, index: number): Operation[] =>
      all.includes(id) && "particles" in kind
        ? [{ op: "add", path: `/elements/${index}/kind/particles`, value: as(kind.particles) }]
        : [];
    void shot.edit(label, ({ elements }) => elements.flatMap(change));
  }
</script>

{#if particles.liquid}
  <Section title="Liquid">
    <ParameterRows target={at("liquid")} />
    <LiquidForecast {element} />
    <button class="btn mt-1" onclick={() => make(`${element.name} as grains`, asGrains)}
      >Make them grains</button
    >
  </Section>
  <Enough />
  <LiquidFactors {element} {particles} />
  <MaterialFields {element} ids={liquids} of="liquid" />
{:else}
  <Section title="Liquid" note="keeps its volume">
    <button class="btn mt-1" onclick={() => make(`${element.name} as a liquid`, asLiquid)}
      >Make a liquid</button
    >
  </Section>
{/if}
