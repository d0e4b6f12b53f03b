<script lang="ts">
  // Where liquids are cut open.
  import NumberField from "../fields/NumberField.svelte";
  import { desk } from "../state/desk.svelte";
  import type { Cut } from "./cut";

  const AXES = ["x", "y", "z"];
  const set = (change: Partial<Cut>) => (desk.cut = { ...desk.cut!, ...change });
</script>

{#if desk.cut}
  <div
    class="absolute bottom-12 left-3 flex items-center gap-2 rounded-lg bg-[#12181ae0] px-2 py-1 text-[#c3d0ce]"
    role="group"
    aria-label="Cut through liquids"
  >
    <span>Cut at</span>
    {#each AXES as name, axis (name)}
      <button
        class="rounded px-1.5 aria-pressed:bg-[#c9f26b] aria-pressed:text-[#17200a]"
        aria-pressed={desk.cut.axis === axis}
        onclick={() => set({ axis: axis as Cut["axis"] })}>{name}</button
      >
    {/each}
    <div class="w-[92px]">
      <NumberField
        label="Place of the cut"
        bare
        unit="m"
        step={0.02}
        value={desk.cut.at_m}
        oncommit={(v) => set({ at_m: v })}
      />
    </div>
    <button class="btn" onclick={() => set({ below: !desk.cut?.below })}>Other side</button>
  </div>
{/if}
