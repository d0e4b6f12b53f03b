<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import { api, type Element, type Schemas, type Vector } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Section from "../fields/Section.svelte";
  import { desk } from "../state/desk.svelte";
  import { notices } from "../state/notices.svelte";
  import { longerSide, pointOperations, resized } from "../state/strokes";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  let curve = $derived(("curve" in element.kind ? element.kind.curve : {}) as Schemas["Curve"]);
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/kind/curve/${path}`, value);

  const at = (part: string) => ({ element, ids: [element.id], path: `kind.curve.points.${part}` });
  const setPoints = (points: Vector[], now: (before: number) => number | null) =>
    shot.edit(`Points of ${element.name}`, (document) => pointOperations(document, element.id, points, now));
  let drawing = $derived(desk.drawing?.id === element.id);

  async function finish() {
    const points = desk.viewport?.curveDrawn;
    // Keys belong to points, which are others now.
    if (points && (await setPoints(points, () => null))) desk.drawing = null;
  }

  async function letter(lettering: Schemas["Lettering"]) {
    const strokes_m = await notices.attempt(() => api.outlineText(lettering.text, lettering.line_m));
    if (strokes_m) await set("Letters", "strokes", { strokes_m, lettering });
  }

  /** The last segment continued by its own length. */
  function beyond(points: number[][]): Vector {
    const [a, b] = points.slice(-2);
    return b.map((v, i) => Number((2 * v - a[i]).toFixed(4))) as Vector;
  }
</script>

{#if "points" in curve}
  {@const { points_m } = curve.points}
  <Section title="Points" note={`${points_m.length} points`}>
    {#if drawing}
      <p class="text-soft" role="status">
        {desk.drawing?.points || "No"}
        {desk.drawing?.points === 1 ? "point" : "points"} so far. Click in the Viewport for each.
      </p>
      <div class="flex gap-2 py-1">
        <button class="btn" disabled={(desk.drawing?.points ?? 0) < 2} onclick={finish}>Finish</button>
        <button class="btn" onclick={() => (desk.drawing = null)}>Give up</button>
      </div>
    {:else}
      <p class="text-soft">Drag the points in the Viewport, or draw them anew by clicks.</p>
      <button class="btn my-1" onclick={() => (desk.drawing = { id: element.id, points: 0 })}
        >Draw in the Viewport</button
      >
    {/if}
    {#each points_m.keys() as i (i)}
      <div class="flex items-center gap-1">
        <div class="flex-1">
          <ParameterField label={`Point ${i + 1}`} target={at(`points_m.${i}`)} />
        </div>
        <button
          class="text-soft underline disabled:opacity-40"
          aria-label={`Remove point ${i + 1}`}
          disabled={points_m.length <= 2}
          onclick={() =>
            setPoints(points_m.toSpliced(i, 1) as Vector[], (n) => (n === i ? null : n > i ? n - 1 : n))}
          >×</button
        >
      </div>
    {/each}
    <button
      class="btn mt-1"
      onclick={() => set("Points", "points/points_m", [...points_m, beyond(points_m as number[][])])}
      >Add a point</button
    >
  </Section>
  <ParameterField target={at("smooth")} />
  <ParameterField target={at("closed")} />
{:else if "circle" in curve}
  <Section title="Circle">
    <ParameterField target={{ element, ids: [element.id], path: "kind.curve.circle.radius_m" }} />
  </Section>
{:else if "strokes" in curve}
  {@const { strokes_m, lettering } = curve.strokes}
  <Section
    title={lettering ? "Letters" : "Drawing"}
    note={`${strokes_m.length} ${strokes_m.length === 1 ? "stroke" : "strokes"}`}
  >
    {#if lettering}
      <textarea
        class="field w-full"
        rows="2"
        maxlength="200"
        aria-label="Words"
        value={lettering.text}
        onchange={(event) => letter({ ...lettering, text: event.currentTarget.value })}></textarea>
      <NumberField
        label="Line height"
        unit="m"
        step={0.05}
        value={lettering.line_m}
        oncommit={(line_m) => letter({ ...lettering, line_m })}
      />
    {:else}
      <NumberField
        label="Longer side"
        unit="m"
        step={0.1}
        value={longerSide(strokes_m as Vector[][])}
        oncommit={(side) => set("Size", "strokes/strokes_m", resized(strokes_m as Vector[][], side))}
      />
    {/if}
  </Section>
{/if}
