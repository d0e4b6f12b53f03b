<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Solid } from "../api/client";
  import MapFields from "./MapFields.svelte";
  import MaterialFields from "./MaterialFields.svelte";
  import PinFields from "./PinFields.svelte";
  import ScaledFields from "./ScaledFields.svelte";
  import Resolution from "./Resolution.svelte";
  import Section from "../fields/Section.svelte";
  import { colouring } from "../state/colouring.svelte";

  let { element, solid, solids }: { element: Element; solid: Solid; solids: number[] } = $props();

  const at = (part: string) => ({ element, ids: solids, path: `kind.solid.soft.${part}` });
</script>

<MaterialFields {element} ids={solids} of="soft" />
<PinFields {element} {solids} of="soft" />
<MapFields {element} {solid} />
<Section title="Inside" note="cells carry the surface">
  <Resolution {element} {solids} of="soft" />
  <ParameterField target={at("cell_m")} />
  <ParameterField target={at("edge_m")} />
  <ParameterField target={at("density_kg_m3")} />
  <ParameterField target={at("preroll_s")} />
  <button
    class="btn mt-1"
    aria-pressed={colouring.interior}
    onclick={() => (colouring.interior = !colouring.interior)}
    >{colouring.interior ? "Hide the cells" : "Show the cells"}</button
  >
</Section>
<Section title="Stiffness">
  <ParameterField target={at("youngs_modulus_pa")} />
  <ParameterField target={at("poisson_ratio")} />
  <ParameterField target={at("damping_s")} />
  <ParameterField target={at("pull_back_hz")} />
  <ParameterField target={at("set_strain")} />
  <ParameterField target={at("pressure_pa")} />
</Section>
<ScaledFields {element} {solid} of="soft" />
<Section title="Contact">
  <ParameterField target={at("thickness_m")} />
  <ParameterField target={{ element, ids: solids, path: "kind.solid.body.friction" }} />
  <ParameterField target={at("adhesion_pa")} />
  <ParameterField target={at("pushes_solids")} />
</Section>
<Section title="In moving air">
  <ParameterField target={at("drag")} />
</Section>
