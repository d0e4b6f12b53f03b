<script lang="ts">
  // The named material toward which cloths, soft bodies or liquids are moved.
  import { api, type Element, type Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { notices } from "../state/notices.svelte";
  import { shot } from "../state/shot.svelte";

  let { element, ids, of }: { element: Element; ids: number[]; of: keyof Schemas["Materials"] } = $props();
  let materials = $state.raw<Schemas["MaterialName"][]>([]);
  let keeping = $state("");
  let chosen = $state<string | null>(null);
  let material = $derived(chosen ?? materials[1]?.name ?? "");
  let own = $derived(materials.some(({ name, own }) => own && name === material));
  let degree = $state(100);

  const load = () =>
    api
      .materials()
      .then((names) => (materials = names[of]))
      .catch(() => undefined);
  $effect(() => void load());

  /** Keeps the settings of the element as one more material. */
  async function keep() {
    const name = keeping.trim();
    if (!name || shot.id === null) return;
    await shot.settled;
    const id = shot.id;
    if (await notices.attempt(() => api.keepMaterial(id, element.id, name).then(() => true))) {
      keeping = "";
      chosen = name;
      await load();
    }
  }

  async function remove() {
    const name = material;
    if (await notices.attempt(() => api.deleteMaterial(of, name).then(() => true))) {
      chosen = null;
      await load();
    }
  }

  /** Moves the elements that are selected toward the material that is chosen. */
  function move() {
    const label = `${degree} % toward ${material} of ${element.name}`;
    void shot.change(label, async ({ id, revision, document }) => {
      const set = ids.map(async (moved) => ({
        op: "add" as const,
        path: `/elements/${document.elements.findIndex((e) => e.id === moved)}/kind/${of === "liquid" ? "particles" : "solid"}/${of}`,
        value: await api.toward(id, moved, material, degree / 100),
      }));
      return api.patch(id, revision, label, await Promise.all(set));
    });
  }
</script>

<Section title="Material" note="moved toward one by any degree">
  <Picker
    label="Toward"
    value={material}
    options={materials.map(({ name, own }): [string, string] => [name, own ? `${name}, your own` : name])}
    onpick={(v) => (chosen = v)}
  />
  <NumberField
    label="By"
    unit="%"
    step={5}
    value={degree}
    oncommit={(v) => (degree = Math.min(100, Math.max(0, v)))}
  />
  <div class="mt-1 flex flex-wrap gap-1">
    <button class="btn" onclick={move}>Move toward {material}</button>
    {#if own}<button class="btn" onclick={remove}>Delete {material}</button>{/if}
  </div>
  <form
    class="mt-1 flex gap-1"
    onsubmit={(event) => {
      event.preventDefault();
      void keep();
    }}
  >
    <input
      class="field min-w-0 grow"
      aria-label="Name of your material"
      placeholder="name"
      bind:value={keeping}
    />
    <button class="btn" disabled={!keeping.trim()}>Keep as a material</button>
  </form>
</Section>
