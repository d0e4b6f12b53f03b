<script lang="ts">
  // What maps scale of a cloth or a soft body.
  import X from "@lucide/svelte/icons/x";
  import ParameterField from "../fields/ParameterField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import type { Element, Schemas, Solid } from "../api/client";
  import { SCALED_NAMES } from "../state/maps";
  import { shot } from "../state/shot.svelte";

  let { element, solid, of }: { element: Element; solid: Solid; of: "cloth" | "soft" } = $props();
  let maps = $derived((solid.maps ?? []).map((map): [string, string] => [map.name, map.name]));
  let scaled = $derived(solid[of]?.scaled ?? []);
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/kind/solid/${of}/scaled${path}`, value);
  const choices = $derived(
    SCALED_NAMES.filter(([name]) => of === "cloth" || ["stiffness", "rest_length"].includes(name)),
  );
  const start = (): Schemas["ScaledByMap"] => ({
    quantity: "stiffness",
    map: maps[0][0],
    at_0: 1,
    at_1: 0.2,
  });
</script>

{#if maps.length > 0}
  <Section title="Scaled by maps" note={scaled.length === 0 ? "nothing" : "factors"}>
    {#each scaled as factor, i (i)}
      <div
        class="mb-1 grid grid-cols-[1fr_1fr_auto] items-center gap-1"
        role="group"
        aria-label={`Factor ${i + 1}`}
      >
        <Picker
          bare
          label={`Quantity of factor ${i + 1}`}
          value={factor.quantity}
          options={choices}
          onpick={(v) => set("Factor", `/${i}/quantity`, v)}
        />
        <Picker
          bare
          label={`Map of factor ${i + 1}`}
          value={factor.map}
          options={maps}
          onpick={(v) => set("Factor", `/${i}/map`, v)}
        />
        <button
          class="btn"
          aria-label={`Remove factor ${i + 1}`}
          onclick={() => set("Factor", "", scaled.toSpliced(i, 1))}><X size={14} /></button
        >
      </div>
      <ParameterField target={{ element, ids: [element.id], path: `kind.solid.${of}.scaled.${i}.at_0` }} />
      <ParameterField target={{ element, ids: [element.id], path: `kind.solid.${of}.scaled.${i}.at_1` }} />
    {/each}
    <button class="btn mt-1" onclick={() => set("Factor", "", [...scaled, start()])}>Add a factor</button>
  </Section>
{/if}
