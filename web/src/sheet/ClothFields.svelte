<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import { api, type Element, type Solid } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import PinFields from "./PinFields.svelte";
  import Section from "../fields/Section.svelte";
  import { shot } from "../state/shot.svelte";

  let { element, solid, solids }: { element: Element; solid: Solid; solids: number[] } = $props();
  let materials = $state.raw<string[]>([]);
  let material = $state("silk");
  let degree = $state(100);

  void api
    .clothMaterials()
    .then((names) => (materials = names))
    .catch(() => undefined);

  const at = (part: string) => ({ element, ids: solids, path: `kind.solid.cloth.${part}` });

  /** Moves the cloths that are selected toward the material that is chosen. */
  function move() {
    const label = `${degree} % toward ${material} of ${element.name}`;
    void shot.change(label, async ({ id, revision, document }) => {
      const set = solids.map(async (of) => ({
        op: "add" as const,
        path: `/elements/${document.elements.findIndex((e) => e.id === of)}/kind/solid/cloth`,
        value: await api.clothToward(id, of, material, degree / 100),
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
    onpick={(v) => (material = v)}
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
<PinFields {element} {solid} {solids} />
<Section title="Sheet">
  <ParameterField target={at("edge_m")} />
  <ParameterField target={at("mass_kg_m2")} />
  <ParameterField target={at("thickness_m")} />
</Section>
<Section title="Stiffness" note="along u, across v">
  <ParameterField target={at("warp_n_m")} />
  <ParameterField target={at("weft_n_m")} />
  <ParameterField target={at("shear_n_m")} />
  <ParameterField target={at("poisson_ratio")} />
  <ParameterField target={at("bend_n_m")} />
  <ParameterField target={at("damping_s")} />
</Section>
<Section title="Contact">
  <ParameterField target={{ element, ids: solids, path: "kind.solid.body.friction" }} />
</Section>
<Section title="In moving air">
  <ParameterField target={at("drag")} />
  <ParameterField target={at("lift")} />
</Section>
