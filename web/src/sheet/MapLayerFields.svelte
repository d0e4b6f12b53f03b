<script lang="ts">
  // A layer of a map: where its weights come from, and how they go with those before.
  import Brush from "@lucide/svelte/icons/brush";
  import X from "@lucide/svelte/icons/x";
  import ParameterRows from "../fields/ParameterRows.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import Picker from "../fields/Picker.svelte";
  import { kindOf, type Element, type Schemas } from "../api/client";
  import { COMBINE_NAMES, SIDE_NAMES, SOURCE_NAMES, startOfSource } from "../state/maps";
  import { meshGroups } from "../state/meshGroups.svelte";
  import { named } from "../state/options";
  import { painting } from "../state/painting.svelte";
  import { shot } from "../state/shot.svelte";

  interface Props {
    element: Element;
    layer: Schemas["MapLayer"];
    map: number;
    number: number;
    layers: Schemas["MapLayer"][];
  }
  let { element, layer, map, number, layers }: Props = $props();
  let { source } = $derived(layer);
  let kind = $derived(kindOf(source));
  let regions = $derived(shot.elements.filter((e) => "region" in e.kind));
  let curves = $derived(shot.elements.filter((e) => "curve" in e.kind));
  let images = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]): [string, string] => [name, name]),
  );
  let groups = $derived(meshGroups.of(element));
  let choices = $derived(
    (Object.entries(SOURCE_NAMES) as [typeof kind, string][]).filter(
      ([of]) =>
        (of !== "region" || regions.length > 0) &&
        (!["curve", "inside"].includes(of) || curves.length > 0) &&
        (of !== "image" || images.length > 0) &&
        (of !== "group" || groups.length > 0),
    ),
  );
  let on = $derived(
    painting.on?.element === element.id && painting.on.map === map && painting.on.layer === number,
  );
  const path = $derived(`kind.solid.maps.${map}.layers.${number}`);
  const at = (part: string) => ({ element, ids: [element.id], path: `${path}.${part}` });
  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/${path.replaceAll(".", "/")}${part}`, value);
  const label = (what: string) => `${what} of layer ${number + 1}`;

  function pickSource(next: typeof kind) {
    const first = { region: regions[0]?.id, curve: curves[0]?.id, image: images[0]?.[0], group: groups[0] };
    return set("Layer", "/source", startOfSource(next, first));
  }
</script>

<div class="mt-1.5 border-t border-line pt-1.5" role="group" aria-label={`Layer ${number + 1}`}>
  <div class="flex items-center gap-1">
    {#if number > 0}
      <div class="w-[86px]">
        <Picker
          bare
          label={label("How it goes in")}
          value={layer.operation ?? "add"}
          options={COMBINE_NAMES}
          onpick={(v) => set("Layer", "/operation", v)}
        />
      </div>
    {/if}
    <div class="min-w-0 grow">
      <Picker bare label={label("Source")} value={kind} options={choices} onpick={pickSource} />
    </div>
    <button
      class="btn"
      aria-label={`Remove layer ${number + 1}`}
      onclick={() =>
        shot.set(
          `Layer of ${element.name} removed`,
          [element.id],
          `/kind/solid/maps/${map}/layers`,
          layers.toSpliced(number, 1),
        )}><X size={14} /></button
    >
  </div>
  {#if "painted" in source}
    <div class="my-1 flex items-center justify-between gap-2">
      <button
        class="btn flex items-center gap-1.5"
        aria-pressed={on}
        onclick={() => (on ? painting.end() : painting.begin({ element: element.id, map, layer: number }))}
        ><Brush size={14} />{on ? "Painting" : "Paint"}</button
      >
      <span class="text-faint"
        >{source.painted.strokes.length === 1 ? "1 stroke" : `${source.painted.strokes.length} strokes`}</span
      >
    </div>
  {:else if "region" in source}
    <Picker
      label="Region"
      value={String(source.region.region)}
      options={named(regions)}
      onpick={(v) => set("Region", "/source/region/region", Number(v))}
    />
  {:else if "curve" in source}
    <Picker
      label="Curve"
      value={String(source.curve.curve)}
      options={named(curves)}
      onpick={(v) => set("Curve", "/source/curve/curve", Number(v))}
    />
  {:else if "inside" in source}
    <Picker
      label="Curve"
      value={String(source.inside.curve)}
      options={named(curves)}
      onpick={(v) => set("Curve", "/source/inside/curve", Number(v))}
    />
  {:else if "side" in source}
    <Picker
      label="Rises to"
      value={source.side.side}
      options={SIDE_NAMES}
      onpick={(v) => set("Side", "/source/side/side", v)}
    />
  {:else if "group" in source}
    <Picker
      label="Group"
      value={source.group.group}
      options={groups.map((name): [string, string] => [name, name])}
      onpick={(v) => set("Group", "/source/group/group", v)}
    />
  {:else if "image" in source}
    <Picker
      label="Image"
      value={source.image.asset}
      options={images}
      onpick={(v) => set("Image", "/source/image/asset", v)}
    />
  {/if}
  <ParameterRows target={at(`source.${kind}`)} />
  <ParameterField target={at("amount")} />
  {#if kind !== "painted"}
    <label class="flex min-h-[27px] items-center gap-2">
      <input
        type="checkbox"
        class="accent-[var(--lime)]"
        checked={layer.inverted ?? false}
        onchange={(event) => set("Layer", "/inverted", event.currentTarget.checked)}
      />
      0 and 1 change places
    </label>
  {/if}
</div>
