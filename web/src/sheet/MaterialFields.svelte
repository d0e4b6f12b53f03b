<script lang="ts">
  // The named material toward which cloths or soft bodies are moved.
  import { api, type Element } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { shot } from "../state/shot.svelte";

  let { element, solids, of }: { element: Element; solids: number[]; of: "cloth" | "soft" } = $props();
  let materials = $state.raw<string[]>([]);
  let chosen = $state<string | null>(null);
  let material = $derived(chosen ?? materials[1] ?? "");
  let degree = $state(100);

  $effect(() => {
    void api
      .materials()
      .then((names) => (materials = names[of]))
      .catch(() => undefined);
  });

  /** Moves the elements that are selected toward the material that is chosen. */
  function move() {
    const label = `${degree} % toward ${material} of ${element.name}`;
    void shot.change(label, async ({ id, revision, document }) => {
      const set = solids.map(async (solid) => ({
        op: "add" as const,
        path: `/elements/${document.elements.findIndex((e) => e.id === solid)}/kind/solid/${of}`,
        value: await api.toward(id, solid, material, degree / 100),
      }));
      return api.patch(id, revision, label, await Promise.all(set));
    });
  }
</script>

<Section title="Material" note="moved toward one by any degree">
  <Picker
    label="Toward"
    value={material}
    options={materials.map((name): [string, string] => [name, name])}
    onpick={(v) => (chosen = v)}
  />
  <NumberField
    label="By"
    unit="%"
    step={5}
    value={degree}
    oncommit={(v) => (degree = Math.min(100, Math.max(0, v)))}
  />
  <button class="btn mt-1" onclick={move}>Move toward {material}</button>
</Section>
