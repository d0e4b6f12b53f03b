<script lang="ts">
  // Where a cloth or a soft body is held.
  import X from "@lucide/svelte/icons/x";
  import NumberField from "../fields/NumberField.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Schemas, Solid } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { meshGroups } from "../state/meshGroups.svelte";
  import { partNamed, partOptions, pinPart, withGroupMap } from "../state/pins";
  import { painting } from "../state/painting.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, solids, of }: { element: Element; solids: number[]; of: "cloth" | "soft" } = $props();
  let solid = $derived(solidOf(element) as Solid);
  let pins = $derived(solid[of]?.pins ?? []);
  let regions = $derived(shot.elements.filter((e) => "region" in e.kind));
  let others = $derived(shot.elements.filter((e) => solidOf(e) && e.id !== element.id));
  let options = $derived(partOptions(regions, solid.maps ?? [], meshGroups.of(element)));
  let takers = $derived([
    ["own", "with its own placement"] as [string, string],
    ...others.map((e): [string, string] => [String(e.id), `with ${e.name}`]),
  ]);

  const set = (label: string, list: Schemas["Pin"][]) =>
    shot.set(`${label} of ${element.name}`, solids, `/kind/solid/${of}/pins`, list);
  const change = (i: number, by: Partial<Schemas["Pin"]>) =>
    set(
      "Pins",
      pins.map((other, j) => (j === i ? { ...other, ...by } : other)),
    );
  /** A group of faces is held by a map of it, which is made with the pin. */
  function pick(i: number, choice: string) {
    if (!choice.startsWith("group ")) return change(i, { part: pinPart(choice, pins[i].part) });
    return shot.set(`Pins of ${element.name}`, solids, "/kind/solid", (now: Solid) => {
      const [next, map] = withGroupMap(now, choice.slice("group ".length));
      const list = (next[of]?.pins ?? []).map((pin, j) => (j === i ? { ...pin, part: { map } } : pin));
      return { ...next, [of]: { ...next[of], pins: list } };
    });
  }
  const at = (i: number, part: string) => ({
    element,
    ids: solids,
    path: `kind.solid.${of}.pins.${i}.${part}`,
  });
</script>

<Section title="Held" note={pins.length === 0 ? "nowhere" : ""}>
  {#each pins as pin, i (i)}
    <div class="mb-1.5" role="group" aria-label={`Pin ${i + 1}`}>
      <div class="flex items-center gap-1">
        <div class="min-w-0 grow">
          <Picker label={`Pin ${i + 1}`} value={partNamed(pin.part)} {options} onpick={(v) => pick(i, v)} />
        </div>
        <button
          class="btn"
          aria-label={`Remove pin ${i + 1}`}
          onclick={() => set("Pin removed", pins.toSpliced(i, 1))}><X size={14} /></button
        >
      </div>
      {#if "point" in pin.part}
        {@const point = pin.part.point}
        <NumberField
          label="Within"
          unit="mm"
          scale={1000}
          step={5}
          slide={[0, 300]}
          value={point.radius_m}
          oncommit={(radius_m) =>
            change(i, { part: { point: { ...point, radius_m: Math.max(0, radius_m) } } })}
        />
        <button
          class="btn mb-1"
          aria-pressed={painting.picking?.pin === i}
          onclick={() => (painting.picking = { element: element.id, of, pin: i })}>Pick the place</button
        >
      {/if}
      {#if takers.length > 1}
        <Picker
          label="It goes"
          value={pin.to == null ? "own" : String(pin.to)}
          options={takers}
          onpick={(v) => change(i, { to: v === "own" ? null : Number(v) })}
        />
      {/if}
      <div class="grid grid-cols-2 items-start">
        <ParameterField target={at(i, "holds")} />
        <label class="flex min-h-[27px] items-center gap-2">
          <input
            type="checkbox"
            class="accent-[var(--lime)]"
            checked={pin.spring != null}
            onchange={(event) =>
              change(i, {
                spring: event.currentTarget.checked ? { frequency_hz: 2, damping_ratio: 0.2 } : null,
              })}
          />
          Springy
        </label>
      </div>
      {#if pin.spring}
        <ParameterField target={at(i, "spring.frequency_hz")} />
        <ParameterField target={at(i, "spring.damping_ratio")} />
      {/if}
    </div>
  {/each}
  <button
    class="btn mt-1"
    onclick={() => set("Pin", [...pins, { part: pinPart(options[0][0]), holds: true }])}>Add a pin</button
  >
</Section>
