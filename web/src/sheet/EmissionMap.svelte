<script lang="ts">
  // By which map particles are born: an image's brightness, or the colours of a mesh's vertices.
  import type { Element, Schemas } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Tick from "../fields/Tick.svelte";
  import type { Option } from "../state/options";
  import { shot } from "../state/shot.svelte";

  interface Props {
    element: Element;
    map: Schemas["EmissionMap"] | null;
    /** Whether the source is an imported mesh: only those come with colours. */
    imported: boolean;
  }
  let { element, map, imported }: Props = $props();
  const set = (path: string, value: unknown) =>
    shot.set(`Map of ${element.name}`, [element.id], `/kind/particles/emission/${path}`, value);
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
    void set("map", next ? { ...map, source } : null);
  }
</script>

<Picker label="Map" value={mapped} options={maps} onpick={pick} />
{#if map}
  <Tick
    label="Dark counts, not bright"
    checked={map.inverted === true}
    onchange={(checked) => set("map/inverted", checked)}
  />
  <Tick
    label="Only for colour and size"
    checked={map.uniform_births === true}
    onchange={(checked) => set("map/uniform_births", checked)}
  />
{/if}
