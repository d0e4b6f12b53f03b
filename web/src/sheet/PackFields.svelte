<script lang="ts">
  // Packs copies of a solid into another, closed one.
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import type { Element } from "../api/client";
  import { packInto, packing } from "../state/packing.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  let others = $derived(
    shot.elements
      .filter((other) => other.id !== element.id && solidOf(other))
      .map((other): [string, string] => [String(other.id), other.name]),
  );
  let into = $derived(others.find(([id]) => id === packing.into)?.[0] ?? others[0]?.[0] ?? "");
</script>

{#if others.length > 0}
  <div role="group" aria-label="Packed start" class="mt-2 border-t border-line pt-1.5">
    <Picker label="Packed into" value={into} options={others} onpick={(id) => (packing.into = id)} />
    <NumberField
      label="Copies"
      step={1}
      least={1}
      whole
      value={packing.count}
      oncommit={(v) => (packing.count = v)}
    />
    <NumberField
      label="Sizes differ by"
      unit="%"
      scale={100}
      step={5}
      least={0}
      value={packing.size_variation}
      oncommit={(v) => (packing.size_variation = v)}
    />
    <NumberField
      label="Apart by"
      unit="mm"
      scale={1000}
      step={1}
      least={0}
      value={packing.gap_m}
      oncommit={(v) => (packing.gap_m = v)}
    />
    <NumberField
      label="Pattern"
      step={1}
      least={0}
      whole
      value={packing.seed}
      oncommit={(v) => (packing.seed = v)}
    />
    <button class="btn mt-1" disabled={packing.working} onclick={() => packInto(element, Number(into))}
      >{packing.working ? "Packing" : "Pack them"}</button
    >
  </div>
{/if}
