<script lang="ts">
  // Layers of a look: other values where a weight says so.
  import X from "@lucide/svelte/icons/x";
  import ParameterField from "../fields/ParameterField.svelte";
  import ParameterRows from "../fields/ParameterRows.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { kindOf, type Element, type Schemas } from "../api/client";
  import { choiceOf, chosenWeight, newLayer, rangeUnit, weightChoices } from "../state/lookLayers";
  import { deforms, shot, solidOf } from "../state/shot.svelte";

  interface Props {
    element: Element;
    ids: number[];
    /** Where the look is below an element. */
    root: string;
    look: Partial<Schemas["Look"]>;
  }
  let { element, ids, root, look }: Props = $props();
  let layers = $derived(look.layers ?? []);
  let maps = $derived((solidOf(element)?.maps ?? []).map((map) => map.name));
  let choices = $derived(weightChoices(maps, deforms(element), solidOf(element) !== undefined));
  const at = (i: number, part: string) => ({ element, ids, path: `${root}.layers.${i}.${part}` });
  const set = (label: string, value: Schemas["LookLayer"][]) =>
    shot.set(`${label} of ${element.name}`, ids, `/${root.replaceAll(".", "/")}/layers`, value);
</script>

<Section title="Layers" note={layers.length === 0 ? "none" : "each over those before"}>
  {#each layers as layer, i (i)}
    {@const by = layer.by ?? { viewing_angle: {} }}
    {@const range = rangeUnit(by)}
    <div class="mb-2 border-t border-line pt-1.5" role="group" aria-label={`Layer ${i + 1} of the look`}>
      <div class="flex items-center gap-1">
        <span class="w-[70px] shrink-0 text-faint">Shows by</span>
        <div class="min-w-0 grow">
          <Picker
            bare
            label={`What layer ${i + 1} shows by`}
            value={choiceOf(by)}
            options={choices}
            onpick={(v) => set("Layer", layers.toSpliced(i, 1, { ...layer, ...chosenWeight(v) }))}
          />
        </div>
        <button
          class="btn"
          aria-label={`Remove layer ${i + 1} of the look`}
          onclick={() => set("Layer removed", layers.toSpliced(i, 1))}><X size={14} /></button
        >
      </div>
      <ParameterRows target={at(i, `by.${kindOf(by)}`)} />
      <ParameterField target={at(i, "from")} {...range} />
      <ParameterField target={at(i, "to")} {...range} />
      <ParameterField target={at(i, "amount")} />
      <ParameterField target={at(i, "albedo")} />
      <ParameterField target={at(i, "roughness")} />
      <ParameterField target={at(i, "metalness")} />
      <ParameterField target={at(i, "transmission")} />
      <ParameterField target={at(i, "emission")} />
    </div>
  {/each}
  {#if layers.length < 8}
    <button class="btn" onclick={() => set("Layer", [...layers, newLayer(look)])}>Add a layer</button>
  {/if}
</Section>
