<script lang="ts">
  // Colours or sizes along life, speed or chance.
  import ParameterField from "../fields/ParameterField.svelte";
  import X from "@lucide/svelte/icons/x";
  import type { Element, Schemas } from "../api/client";
  import { selection } from "../state/selection.svelte";
  import { values } from "../state/values.svelte";

  type Stop = Schemas["ColourStop"] | Schemas["SizeStop"];
  interface Props {
    element: Element;
    list: "colours" | "sizes";
    stops: Stop[];
  }
  let { element, list, stops }: Props = $props();
  const at = (path: string) => ({
    element,
    ids: selection.with(element.id),
    path: `kind.particles.appearance.${list}${path}`,
  });
  const set = (change: (old: Stop[]) => Stop[]) =>
    values.assign(at(""), list === "colours" ? "Colours" : "Sizes", (old?: Stop[]) => change(old ?? []));

  const add = () =>
    set((old) => {
      const last = old[old.length - 1];
      const share = last ? (last.at + 1) / 2 : 0;
      const place = last && last.at >= 1 ? 1 : Number(share.toFixed(2));
      if (list === "colours")
        return [...old, { at: place, colour: last && "colour" in last ? last.colour : [1, 1, 1] }] as Stop[];
      return [...old, { at: place, size: last && "size" in last ? last.size : 1 }] as Stop[];
    });

  /** The ramp as a gradient. */
  let strip = $derived.by(() => {
    if (list !== "colours" || stops.length === 0) return "";
    const css = stops.map((stop) => {
      const [r, g, b] = ("colour" in stop ? stop.colour : [0, 0, 0]).map((v: number) =>
        Math.round(255 * Math.min(1, v) ** (1 / 2.2)),
      );
      return `rgb(${r} ${g} ${b}) ${100 * stop.at}%`;
    });
    return `linear-gradient(90deg, ${[css[0], ...css].join(", ")})`;
  });
</script>

{#if strip}
  <div class="mb-1 h-2.5 rounded" style:background={strip}></div>
{/if}
{#each stops as stop, i (i)}
  <div class="grid grid-cols-[64px_1fr_16px] min-h-[27px] items-center gap-1.5">
    <ParameterField bare label={`Stop ${i + 1} at`} target={at(`.${i}.at`)} />
    {#if "colour" in stop}
      <ParameterField bare label={`Colour ${i + 1}`} target={at(`.${i}.colour`)} />
    {:else}
      <ParameterField bare label={`Size ${i + 1}`} target={at(`.${i}.size`)} />
    {/if}
    <button
      class="text-soft"
      aria-label={`Remove stop ${i + 1}`}
      onclick={() => set((old) => old.filter((_, n) => n !== i))}><X size={13} /></button
    >
  </div>
{/each}
<button class="btn mt-1" onclick={add}>{list === "colours" ? "Add a colour" : "Add a size"}</button>
