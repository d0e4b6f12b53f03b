<script lang="ts">
  // How a mesh is refined, and which of its edges stay sharp.
  import ParameterField from "../fields/ParameterField.svelte";
  import type { ChoiceOf, Element } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import type { FinishOperation } from "../state/finishing";
  import { values } from "../state/values.svelte";

  type At = (path: string) => { element: Element; ids: number[]; path: string };
  let { subdivide, at }: { subdivide: ChoiceOf<FinishOperation, "subdivide">; at: At } = $props();
  const of = (field: string) => at(`operation.subdivide.${field}`);
  let sharp = $derived(
    subdivide.crease_angle_rad != null
      ? "angle"
      : subdivide.crease_group != null
        ? "group"
        : subdivide.crease_map != null
          ? "map"
          : "none",
  );
  let name = $derived(subdivide.crease_group ?? subdivide.crease_map ?? "");

  function creaseBy(by: string) {
    void values.assign(at("operation.subdivide"), "Sharp edges", {
      ...subdivide,
      crease_angle_rad: by === "angle" ? Math.PI / 6 : null,
      crease_group: by === "group" ? "crease" : null,
      crease_map: by === "map" ? "weight" : null,
    });
  }
</script>

<Picker
  label="Rule"
  target={of("scheme")}
  value={subdivide.scheme}
  options={[
    ["catmull_clark", "Catmull–Clark, for quads"],
    ["loop", "Loop, for triangles"],
  ]}
  onpick={(v) => values.assign(of("scheme"), "Rule", v)}
/>
<ParameterField target={of("levels")} />
<Picker
  label="Sharp edges"
  target={of("crease_angle_rad")}
  value={sharp}
  options={[
    ["none", "borders only"],
    ["angle", "by their angle"],
    ["group", "the border of a group"],
    ["map", "by a map"],
  ]}
  onpick={creaseBy}
/>
{#if sharp === "angle"}
  <ParameterField target={of("crease_angle_rad")} />
{:else if sharp === "group" || sharp === "map"}
  <label class="mt-1 flex items-center justify-between gap-2 text-soft"
    >{sharp === "group" ? "Group" : "Map"}
    <input
      class="field w-36"
      value={name}
      maxlength="80"
      onchange={(e) =>
        e.currentTarget.value.trim() &&
        values.assign(of(`crease_${sharp}`), "Sharp edges", e.currentTarget.value.trim())}
    />
  </label>
{/if}
