<script lang="ts">
  // The maps of a solid: weights of 0–1 on its vertices, made of layers.
  import Eye from "@lucide/svelte/icons/eye";
  import X from "@lucide/svelte/icons/x";
  import ParameterField from "../fields/ParameterField.svelte";
  import Section from "../fields/Section.svelte";
  import MapLayerFields from "./MapLayerFields.svelte";
  import type { Element, Schemas, Solid } from "../api/client";
  import { birthsByMap, mapNamed, withoutMap } from "../state/maps";
  import { painting } from "../state/painting.svelte";
  import { freeName, shot, solidOf } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let maps = $derived(solid.maps ?? []);

  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/kind/solid/${path}`, value);

  async function add() {
    const name = freeName("Map", new Set(maps.map((map) => map.name)));
    const map: Schemas["Map"] = { name, layers: [painted()], blur_m: 0 };
    if (await set("Map", "maps", [...maps, map]))
      painting.begin({ element: element.id, map: maps.length - 1, layer: 0 });
  }

  const painted = (): Schemas["MapLayer"] => ({
    source: { painted: { strokes: [] } },
    operation: "add",
    amount: 1,
  });

  function rename(index: number, name: string) {
    const taken = maps.some((map, i) => i !== index && map.name === name);
    if (!name.trim() || taken || name === maps[index].name) return;
    const old = maps[index].name;
    change(`Map ${old} renamed`, old, name, (now) => mapNamed(now, index, name));
  }

  /** Changes the solid, and the particles that are born on it by a map. */
  function change(label: string, old: string, name: string | null, of: (now: Solid) => Solid) {
    void shot.edit(label, ({ elements }) => {
      const index = elements.findIndex((e) => e.id === element.id);
      const now = solidOf(elements[index]);
      if (!now) return [];
      const value = of(now);
      return [
        { op: "add", path: `/elements/${index}/kind/solid`, value },
        ...birthsByMap(elements, element.id, old, name),
      ];
    });
  }
</script>

<Section title="Maps" note={maps.length === 0 ? "weights of 0–1 on its surface" : ""}>
  {#each maps as map, i (i)}
    {@const shown = painting.shown?.element === element.id && painting.shown.map === i}
    <div class="mb-2 rounded-md bg-ground/40 p-1.5" role="group" aria-label={`Map ${map.name}`}>
      <div class="flex items-center gap-1">
        <input
          class="field min-w-0 grow"
          aria-label={`Name of map ${i + 1}`}
          value={map.name}
          onchange={(event) => rename(i, event.currentTarget.value)}
        />
        <button
          class="btn"
          aria-label={`Show map ${map.name}`}
          aria-pressed={shown}
          onclick={() => {
            painting.on = null;
            painting.shown = shown ? null : { element: element.id, map: i };
          }}><Eye size={14} /></button
        >
        <button
          class="btn"
          aria-label={`Delete map ${map.name}`}
          onclick={() => {
            painting.shown = painting.on = null;
            change(`Map ${map.name} deleted`, map.name, null, (now) => withoutMap(now, i));
          }}><X size={14} /></button
        >
      </div>
      {#each map.layers as layer, j (j)}
        <MapLayerFields {element} {layer} map={i} number={j} layers={map.layers} />
      {/each}
      <div class="mt-1 flex items-center gap-2">
        <button class="btn" onclick={() => set("Layer", `maps/${i}/layers`, [...map.layers, painted()])}
          >Add a layer</button
        >
      </div>
      <ParameterField target={{ element, ids: [element.id], path: `kind.solid.maps.${i}.blur_m` }} />
    </div>
  {/each}
  <button class="btn" onclick={add}>Add a map</button>
</Section>
