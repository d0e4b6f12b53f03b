<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Solid } from "../api/client";
  import MapFields from "./MapFields.svelte";
  import MaterialFields from "./MaterialFields.svelte";
  import PinFields from "./PinFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import { shot } from "../state/shot.svelte";
  import ScaledFields from "./ScaledFields.svelte";
  import Resolution from "./Resolution.svelte";
  import Section from "../fields/Section.svelte";
  import Waves from "./Waves.svelte";

  let { element, solid, solids }: { element: Element; solid: Solid; solids: number[] } = $props();

  let maps = $derived((solid.maps ?? []).map((map): [string, string] => [map.name, map.name]));
  const at = (part: string) => ({ element, ids: solids, path: `kind.solid.cloth.${part}` });
</script>

<MaterialFields {element} ids={solids} of="cloth" />
<PinFields {element} {solids} of="cloth" />
<MapFields {element} {solid} />
<Section title="Sheet">
  <Resolution {element} {solids} of="cloth" />
  <ParameterField target={at("edge_m")} />
  <ParameterField target={at("mass_kg_m2")} />
  <ParameterField target={at("thickness_m")} />
  <ParameterField target={at("rest_length")} />
  <ParameterField target={at("preroll_s")} />
</Section>
<Section title="Stiffness" note="along u, across v">
  <ParameterField target={at("warp_n_m")} />
  <ParameterField target={at("weft_n_m")} />
  <ParameterField target={at("shear_n_m")} />
  <ParameterField target={at("poisson_ratio")} />
  <ParameterField target={at("bend_n_m")} />
  <ParameterField target={at("damping_s")} />
  <ParameterField target={at("strain_limit")} />
  <ParameterField target={at("crease_1_m")} />
</Section>
<Section title="Tearing" note={solid.cloth?.tear_strain == null ? "none" : "along edges"}>
  <ParameterField target={at("tear_strain")} />
  {#if maps.length > 0}
    <Picker
      label="Weak by map"
      value={solid.cloth?.tear_map ?? ""}
      options={[["", "everywhere"], ...maps]}
      onpick={(v) => shot.set(`Weak map of ${element.name}`, solids, "/kind/solid/cloth/tear_map", v || null)}
    />
  {/if}
</Section>
<ScaledFields {element} {solid} of="cloth" />
<Section title="Within" note="of a closed skin">
  <ParameterField target={at("pressure_pa")} />
  <ParameterField target={at("shut_in_air")} />
</Section>
<Section title="Contact">
  <ParameterField target={{ element, ids: solids, path: "kind.solid.body.friction" }} />
  <ParameterField target={at("adhesion_pa")} />
  <ParameterField target={at("pushes_solids")} />
</Section>
<Section title="In moving air">
  <ParameterField target={at("drag")} />
  <ParameterField target={at("lift")} />
  <ParameterField target={at("carried_air_m")} />
</Section>
<Waves {element} />
