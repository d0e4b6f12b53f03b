<script lang="ts">
  // How the mesh of a rigid solid sways after its own motion.
  import ParameterRows from "../fields/ParameterRows.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import MapFields from "./MapFields.svelte";
  import type { Element, Solid } from "../api/client";
  import { countOf, shot } from "../state/shot.svelte";

  let { element, solid }: { element: Element; solid: Solid } = $props();
  let sway = $derived(solid.sway);
  let maps = $derived((solid.maps ?? []).map((map): [string, string] => [map.name, map.name]));
  const set = (path: string, value: unknown) =>
    shot.set(`Sway of ${element.name}`, [element.id], `/kind/solid/sway${path}`, value);
</script>

<Section title="Sway" note={sway ? "follows late, by springs" : "none"}>
  {#if sway}
    <ParameterRows target={{ element, ids: [element.id], path: "kind.solid.sway" }} />
    {#if maps.length > 0}
      <Picker
        label="By map"
        value={sway.map ?? ""}
        options={[["", "everywhere"], ...maps]}
        onpick={(v) => set("/map", v || null)}
      />
    {/if}
    <button class="btn mt-1" onclick={() => set("", null)}>No sway</button>
  {:else if countOf(element) === 1}
    <button class="btn" onclick={() => set("", {})}>Let it sway</button>
  {:else}
    <p class="text-soft">Copies cannot sway.</p>
  {/if}
</Section>
<MapFields {element} {solid} />
