<script lang="ts">
  // How fine a cloth or a soft body is, and about how long it takes.
  import NumberField from "../fields/NumberField.svelte";
  import { api, type Element, type Operation, type Schemas } from "../api/client";
  import { answered } from "../state/asking";
  import { finer, forecastWords } from "../state/resolution";
  import { shot } from "../state/shot.svelte";

  let { element, solids, of }: { element: Element; solids: number[]; of: "cloth" | "soft" } = $props();
  let facts = $state.raw<Schemas["MeshFacts"] | null>(null);
  $effect(() => {
    void shot.state?.revision;
    return answered(api.meshFacts(shot.id!, element.id), (found) => (facts = found));
  });
  let count = $derived(of === "cloth" ? facts?.vertices : facts?.cells);
  let frames = $derived(shot.document ? shot.document.timing.last - shot.document.timing.first : 0);

  /** Edges or cells of another length: pins, maps and settings stay as they are. */
  function raise(wanted: number) {
    if (count == null || wanted < 1) return;
    const by = finer(of, count, wanted);
    const change = ({ id, kind }: Element, index: number): Operation[] => {
      if (!solids.includes(id) || !("solid" in kind)) return [];
      const path = `/elements/${index}/kind/solid/${of}`;
      const { cloth, soft } = kind.solid;
      if (of === "cloth")
        return cloth ? [{ op: "add", path: `${path}/edge_m`, value: (cloth.edge_m ?? 0.03) * by }] : [];
      return soft ? [{ op: "add", path: `${path}/cell_m`, value: (soft.cell_m ?? 0.1) * by }] : [];
    };
    void shot.edit(`Resolution of ${element.name}`, ({ elements }) => elements.flatMap(change));
  }
</script>

{#if facts?.too_many != null}
  <p class="text-warn" data-testid="forecast-of-mesh">
    About {facts.too_many.toLocaleString("en")}
    {of === "cloth" ? "vertices" : "cells or vertices"}: too many. Give it longer {of === "cloth"
      ? "edges"
      : "cells"}.
  </p>
{:else if facts && count != null}
  <NumberField
    label={of === "cloth" ? "Vertices" : "Number"}
    value={count}
    step={100}
    slide={of === "cloth" ? [100, 40_000] : [8, 8_000]}
    oncommit={raise}
  />
  <p class="text-faint" data-testid="forecast-of-mesh">
    {forecastWords(facts.seconds_a_frame ?? 0, frames)}
  </p>
{/if}
