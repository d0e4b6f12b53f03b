<script lang="ts">
  // The quantity by which the Viewport colours what deforms and what flows, with its range.
  import Palette from "@lucide/svelte/icons/palette";
  import { DropdownMenu } from "bits-ui";
  import NumberField from "../fields/NumberField.svelte";
  import { gradient, quantities, type Coloured, type Quantity } from "../state/colouring";
  import { colouring } from "../state/colouring.svelte";
  import { painting } from "../state/painting.svelte";
  import { shot, solidOf } from "../state/shot.svelte";

  /** What the shot has that can be coloured. */
  let { of: coloured }: { of: Coloured[] } = $props();
  let of = $derived(colouring.quantity ? quantities[colouring.quantity] : null);
  const all = Object.entries(quantities) as [Quantity, (typeof quantities)[Quantity]][];
  let entries = $derived(all.filter(([, { of }]) => of.some((kind) => coloured.includes(kind))));
  let maps = $derived(solidOf(shot.selected)?.maps ?? []);
  let value = $derived(painting.shown ? `map ${painting.shown.map}` : (colouring.quantity ?? "look"));

  function pick(next: string) {
    const map = next.startsWith("map ") ? Number(next.slice(4)) : null;
    painting.shown = map !== null && shot.selected ? { element: shot.selected.id, map } : null;
    painting.on = null;
    if (map === null) colouring.quantity = next === "look" ? null : (next as Quantity);
  }
</script>

{#snippet colours()}
  <span class="h-2.5 w-28 rounded-sm" style:background={gradient()} role="img" aria-label="Colours"></span>
{/snippet}

<div class="absolute top-11 left-3 flex items-center gap-2 rounded-lg bg-[#12181ae0] px-2 py-1">
  <DropdownMenu.Root>
    <DropdownMenu.Trigger
      class="flex items-center gap-1.5 text-[#c3d0ce]"
      aria-label="Colour by"
      title="Colour cloth, soft bodies and liquids by a measured quantity"
      ><Palette size={15} />{painting.shown
        ? `Map ${painting.map?.name}`
        : (of?.label ?? "Own look")}</DropdownMenu.Trigger
    >
    <DropdownMenu.Portal>
      <DropdownMenu.Content class="card z-40 p-1.5 shadow-2xl" align="start" sideOffset={8}>
        <DropdownMenu.RadioGroup {value} onValueChange={pick}>
          {#each [["look", { label: "Own look" }] as const, ...entries, ...maps.map((map, i) => [`map ${i}`, { label: `Map ${map.name}` }] as const)] as [name, { label }] (name)}
            <DropdownMenu.RadioItem
              value={name}
              class="rounded-md px-2.5 py-1 outline-none data-highlighted:bg-raised data-[state=checked]:text-lime"
              >{label}</DropdownMenu.RadioItem
            >
          {/each}
        </DropdownMenu.RadioGroup>
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
  {#if painting.shown}
    <span class="text-[#c3d0ce]">0</span>
    {@render colours()}
    <span class="text-[#c3d0ce]">1</span>
  {:else if of && colouring.quantity}
    <span class="text-[#c3d0ce]">0</span>
    {@render colours()}
    <div class="w-[92px]">
      <NumberField
        label={`Top of ${of.label.toLowerCase()}`}
        bare
        unit={of.unit}
        step={of.most / 5}
        value={colouring.most[colouring.quantity]}
        oncommit={(v) => {
          if (v > 0) colouring.most[colouring.quantity!] = v;
        }}
      />
    </div>
  {/if}
</div>
