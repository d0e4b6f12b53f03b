<script lang="ts">
  // Where a cloth or a soft body is held.
  import X from "@lucide/svelte/icons/x";
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Schemas } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { shot } from "../state/shot.svelte";

  let {
    element,
    solids,
    of,
    pins,
  }: { element: Element; solids: number[]; of: "cloth" | "soft"; pins: Schemas["Pin"][] } = $props();
  let regions = $derived(shot.elements.filter((e) => "region" in e.kind));

  const sides: [Schemas["Side"], string][] = [
    ["left", "left"],
    ["right", "right"],
    ["back", "back"],
    ["front", "front"],
    ["top", "top"],
    ["bottom", "bottom"],
  ];
  let options = $derived([
    ...sides.map(([side, word]): [string, string] => [`side ${side}`, `the ${word} side`]),
    ...sides.map(([side, word]): [string, string] => [`corners ${side}`, `corners of the ${word} side`]),
    ...regions.map((e): [string, string] => [`region ${e.id}`, `what is in ${e.name}`]),
  ]);

  const set = (label: string, list: Schemas["Pin"][]) =>
    shot.set(`${label} of ${element.name}`, solids, `/kind/solid/${of}/pins`, list);

  function name(part: Schemas["PinnedPart"]): string {
    if ("side" in part) return `side ${part.side}`;
    if ("corners" in part) return `corners ${part.corners}`;
    return `region ${part.region}`;
  }

  function part(value: string): Schemas["PinnedPart"] {
    const [kind, of] = value.split(" ");
    if (kind === "region") return { region: Number(of) };
    return kind === "side" ? { side: of as Schemas["Side"] } : { corners: of as Schemas["Side"] };
  }
</script>

<Section title="Held" note={pins.length === 0 ? "nowhere" : "where the element stands"}>
  {#each pins as pin, i (i)}
    <div class="flex items-center gap-1">
      <div class="min-w-0 grow">
        <Picker
          label={`Pin ${i + 1}`}
          value={name(pin.part)}
          {options}
          onpick={(v) =>
            set(
              "Pins",
              pins.map((other, j) => (j === i ? { ...other, part: part(v) } : other)),
            )}
        />
      </div>
      <button
        class="btn"
        aria-label={`Remove pin ${i + 1}`}
        onclick={() =>
          set(
            "Pin removed",
            pins.filter((_, j) => j !== i),
          )}><X size={14} /></button
      >
    </div>
    <ParameterField target={{ element, ids: solids, path: `kind.solid.${of}.pins.${i}.holds` }} />
  {/each}
  <button class="btn mt-1" onclick={() => set("Pin", [...pins, { part: { side: "left" }, holds: true }])}
    >Add a pin</button
  >
</Section>
