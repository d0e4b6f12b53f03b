<script lang="ts">
  // By which map particles are born: an image's brightness, or the colours of a mesh's vertices.
  import type { Element, Schemas } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Tick from "../fields/Tick.svelte";
  import type { Option } from "../state/options";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";
  import { mappable } from "../state/sources";
  import { values } from "../state/values.svelte";

  interface Props {
    element: Element;
    map: Schemas["EmissionMap"] | null;
    /** Whether the source is an imported mesh: only those come with colours. */
    imported: boolean;
  }
  let { element, map, imported }: Props = $props();
  const at = (path: string) => ({
    element,
    ids: selection.with(element.id).filter((id) => mappable(shot.element(id))),
    path: `kind.particles.emission.${path}`,
  });
  let images = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]): Option => [`image ${name}`, `brightness of ${name}`]),
  );
  let mapped = $derived(!map ? "" : "image" in map.source ? `image ${map.source.image.asset}` : "vertices");
  let maps = $derived<Option[]>([
    ["", "none"],
    ...images,
    ...(imported || mapped === "vertices" ? [["vertices", "colours of its vertices"] as Option] : []),
  ]);

  function pick(next: string) {
    const source: Schemas["MapSource"] =
      next === "vertices" ? { vertices: {} } : { image: { asset: next.slice("image ".length) } };
    const change = (old: object | null) => (next ? { ...old, source } : null);
    void values.assign(at("map"), "Map", change);
  }
</script>

<Picker label="Map" target={at("map.source")} value={mapped} options={maps} onpick={pick} />
{#if map}
  <Tick label="Dark counts, not bright" target={at("map.inverted")} />
  <Tick label="Only for colour and size" target={at("map.uniform_births")} />
{/if}
