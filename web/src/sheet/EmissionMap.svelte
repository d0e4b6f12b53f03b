<script lang="ts">
  // By which map particles are born: an image's brightness, the colours of a mesh's vertices, a map of the solid that they are
  // born on, or a quantity measured on it.
  import type { Element, Schemas } from "../api/client";
  import ParameterField from "../fields/ParameterField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Tick from "../fields/Tick.svelte";
  import { birthMap, birthMapChoices, birthMapOf } from "../state/birthMaps";
  import { quantities } from "../state/colouring";
  import { selection } from "../state/selection.svelte";
  import { deforms, shot, solidOf } from "../state/shot.svelte";
  import { mappable } from "../state/sources";
  import { values } from "../state/values.svelte";

  interface Props {
    element: Element;
    map: Schemas["EmissionMap"] | null;
    /** Whether the source is an imported mesh: only those come with colours. */
    imported: boolean;
    /** The solid that they are born on. */
    solid: Element | undefined;
  }
  let { element, map, imported, solid }: Props = $props();
  const at = (path: string) => ({
    element,
    ids: selection.with(element.id).filter((id) => mappable(shot.element(id))),
    path: `kind.particles.emission.${path}`,
  });
  let images = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]) => name),
  );
  let mapped = $derived(map ? birthMapOf(map.source) : "");
  let choices = $derived(
    birthMapChoices({
      images,
      colours: imported || mapped === "vertices",
      maps: (solidOf(solid)?.maps ?? []).map((of) => of.name),
      measured: solid !== undefined && deforms(solid),
    }),
  );
  let measured = $derived(map && "quantity" in map.source ? quantities[map.source.quantity.quantity] : null);

  function pick(next: string) {
    const source = next ? birthMap(next) : null;
    const change = (old: object | null) => (source ? { ...old, source } : null);
    void values.assign(at("map"), "Map", change);
  }
</script>

<Picker label="Map" target={at("map.source")} value={mapped} options={choices} onpick={pick} />
{#if map}
  {#if measured}
    {@const { unit, scale } = measured}
    <ParameterField target={at("map.source.quantity.from")} {unit} {scale} />
    <ParameterField target={at("map.source.quantity.to")} {unit} {scale} />
  {/if}
  <Tick
    label={"image" in map.source ? "Dark counts, not bright" : "The other way round"}
    target={at("map.inverted")}
  />
  <Tick label="Only for colour and size" target={at("map.uniform_births")} />
{/if}
