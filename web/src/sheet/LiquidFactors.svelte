<script lang="ts">
  // What regions and the map of its source scale of a liquid.
  import X from "@lucide/svelte/icons/x";
  import ParameterField from "../fields/ParameterField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import type { Element, Particles } from "../api/client";
  import { LIQUID_QUANTITIES, firstFactor, weightName, weightNamed, weightOptions } from "../state/liquid";
  import { options } from "../state/options";
  import { shot } from "../state/shot.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let factors = $derived(particles.liquid?.scaled ?? []);
  let regions = $derived(options((e) => "region" in e.kind));
  let mapped = $derived(!!particles.emission?.map);
  let weights = $derived(weightOptions(regions, mapped));
  const set = (path: string, value: unknown) =>
    shot.set(`Factor of ${element.name}`, [element.id], `/kind/particles/liquid/scaled${path}`, value);
  const at = (i: number, end: string) => ({
    element,
    ids: [element.id],
    path: `kind.particles.liquid.scaled.${i}.${end}`,
  });
</script>

<Section title="By place" note={factors.length === 0 ? "the same everywhere" : "factors"}>
  {#each factors as factor, i (i)}
    <div
      class="mb-1 grid grid-cols-[1fr_1fr_auto] items-center gap-1"
      role="group"
      aria-label={`Factor ${i + 1}`}
    >
      <Picker
        bare
        label={`Quantity of factor ${i + 1}`}
        value={factor.quantity}
        options={LIQUID_QUANTITIES}
        onpick={(v) => set(`/${i}/quantity`, v)}
      />
      <Picker
        bare
        label={`Weight of factor ${i + 1}`}
        value={weightName(factor.by)}
        options={weightOptions(regions, mapped || "birth_map" in factor.by)}
        onpick={(v) => set(`/${i}/by`, weightNamed(v))}
      />
      <button
        class="btn"
        aria-label={`Remove factor ${i + 1}`}
        onclick={() => set("", factors.toSpliced(i, 1))}><X size={14} /></button
      >
    </div>
    <ParameterField target={at(i, "at_0")} />
    <ParameterField target={at(i, "at_1")} />
  {/each}
  {#if weights.length > 0}
    <button class="btn mt-1" onclick={() => set("", [...factors, firstFactor(weights[0][0])])}
      >Add a factor</button
    >
  {:else}
    <p class="text-faint">Add a region, or a map to its emission: softness can differ by their weight.</p>
  {/if}
</Section>
