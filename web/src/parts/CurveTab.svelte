<script lang="ts">
  import type { Element, Schemas, Vector } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  let curve = $derived(("curve" in element.is ? element.is.curve : {}) as Schemas["Curve"]);
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/curve/${path}`, value);

  /** A point as far beyond the last as that is from the one before. */
  function beyond(points: number[][]): Vector {
    const [a, b] = points.slice(-2);
    return b.map((v, i) => Number((2 * v - a[i]).toFixed(4))) as Vector;
  }
</script>

{#if "points" in curve}
  {@const { points_m, closed, smooth } = curve.points}
  <Section title="Points" note={`${points_m.length} points`}>
    {#each points_m as point, i (i)}
      <div class="flex items-center gap-1">
        <div class="flex-1">
          <VectorField
            label={`Point ${i + 1}`}
            unit="m"
            step={0.05}
            value={point as Vector}
            oncommit={(change) => set("Points", `points/points_m/${i}`, change)}
          />
        </div>
        <button
          class="text-soft underline disabled:opacity-40"
          aria-label={`Remove point ${i + 1}`}
          disabled={points_m.length <= 2}
          onclick={() => set("Points", "points/points_m", points_m.toSpliced(i, 1))}>×</button
        >
      </div>
    {/each}
    <button
      class="btn mt-1"
      onclick={() => set("Points", "points/points_m", [...points_m, beyond(points_m as number[][])])}
      >Add a point</button
    >
  </Section>
  <label class="flex items-center gap-2 py-0.5">
    <input
      type="checkbox"
      class="accent-[var(--lime)]"
      checked={smooth ?? false}
      onchange={(event) => set("Bend", "points/smooth", event.currentTarget.checked)}
    /> Bends smoothly
  </label>
  <label class="flex items-center gap-2 py-0.5">
    <input
      type="checkbox"
      class="accent-[var(--lime)]"
      checked={closed ?? false}
      onchange={(event) => set("Closing", "points/closed", event.currentTarget.checked)}
    /> Closed
  </label>
{:else if "circle" in curve}
  <Section title="Circle">
    <NumberField
      label="Radius"
      unit="m"
      value={curve.circle.radius_m}
      oncommit={(v) => set("Radius", "circle/radius_m", v)}
    />
  </Section>
{:else if "strokes" in curve}
  <Section title="Strokes" note={`${curve.strokes.strokes_m.length} strokes`}>
    <p class="text-soft">From an outline.</p>
  </Section>
{/if}
