<script lang="ts">
  // Where particles are born.
  import type { Element, Particles, Schemas } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import Tick from "./Tick.svelte";
  import VectorField from "./VectorField.svelte";
  import { kindOf } from "../state/particles";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let from = $derived(particles.from ?? { point: {} });
  let source = $derived(kindOf(from));
  let births = $derived<Partial<Schemas["Births"]>>(particles.births ?? {});
  let how = $derived(births.how ?? { rate: { per_s: 200 } });
  // Born on a mesh: a shape, or the bodies of a solid, whole or as they break.
  let onMesh = $derived(
    "shape" in from
      ? { on: from.shape.on, shape: from.shape.shape }
      : "solid" in from
        ? { on: from.solid.on, shape: solidOf(shot.element(from.solid.solid))?.shape }
        : "broken" in from
          ? { on: from.broken.on, shape: solidOf(shot.element(from.broken.solid))?.shape }
          : null,
  );
  let on = $derived(onMesh?.on ?? "surface");
  const others = (test: (e: Element) => boolean) =>
    shot.elements
      .filter((e) => e.id !== element.id && test(e))
      .map((e): [string, string] => [String(e.id), e.name]);
  let solids = $derived(others((e) => "solid" in e.is && e.is.solid.from_particles == null));
  let breaking = $derived(
    others((e) => solidOf(e)?.body?.breaks_n_s != null || ("broken" in from && from.broken.solid === e.id)),
  );
  let curves = $derived(others((e) => "curve" in e.is));
  let swarms = $derived(others((e) => "particles" in e.is));
  let regions = $derived(others((e) => "region" in e.is));
  const at = (path: string) => ({ element, ids: [element.id], path: `is.particles.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/particles/${path}`, value);

  type Source = Schemas["Source"];
  const SHAPES: Record<string, Schemas["Shape"]> = {
    sphere: { sphere: { radius_m: 0.25 } },
    box: { box: { size_m: [1, 1, 1], edge_m: 0 } },
    plane: { plane: { size_m: [2, 2] } },
    cylinder: { cylinder: { radius_m: 0.25, height_m: 0.5 } },
    torus: { torus: { ring_m: 0.4, tube_m: 0.05 } },
  };
  let place = $derived(
    "shape" in from
      ? `shape ${kindOf(from.shape.shape)}`
      : "solid" in from
        ? `solid ${from.solid.solid}`
        : "broken" in from
          ? `broken ${from.broken.solid}`
          : "curve" in from
            ? `curve ${from.curve.curve}`
            : "particles" in from
              ? `particles ${from.particles.of}`
              : source,
  );
  let places = $derived<[string, string][]>([
    ["point", "a point"],
    ["grid", "a grid of points"],
    ...Object.keys(SHAPES).map((name): [string, string] => [`shape ${name}`, `a ${name} of its own`]),
    ...("shape" in from && "mesh" in from.shape.shape
      ? [["shape mesh", "a mesh of its own"] as [string, string]]
      : []),
    ...solids.map(([id, name]): [string, string] => [`solid ${id}`, name]),
    ...breaking.map(([id, name]): [string, string] => [`broken ${id}`, `${name} as it breaks`]),
    ...curves.map(([id, name]): [string, string] => [`curve ${id}`, name]),
    ...swarms.map(([id, name]): [string, string] => [`particles ${id}`, name]),
    ["impacts", "hits of bodies"],
  ]);

  function pickPlace(next: string) {
    const [kind, rest] = next.split(" ");
    const made: Record<string, () => Source> = {
      point: () => ({ point: {} }),
      grid: () => ({ grid: { count: [10, 1, 10], spacing_m: [0.1, 0.1, 0.1] } }),
      shape: () => ({ shape: { shape: SHAPES[rest], on } }),
      solid: () => ({ solid: { solid: Number(rest), on } }),
      // A map has no weight inside a body.
      broken: () => ({ broken: { solid: Number(rest), on: births.map ? on : "volume" } }),
      curve: () => ({ curve: { curve: Number(rest) } }),
      particles: () => ({ particles: { of: Number(rest) } }),
      impacts: () => ({ impacts: { of: [], impulse_n_s: 1 } }),
    };
    if (next === "shape mesh") return;
    const number = "at_once" in how ? how.at_once.number : 100;
    void shot.edit(`Source of ${element.name}`, (document) => {
      const path = `/elements/${document.elements.findIndex((e) => e.id === element.id)}/is/particles`;
      const keeps = ["shape", "solid", "broken", "grid"].includes(kind);
      // A map is of no use where there are no UVs.
      return [
        { op: "add", path: `${path}/from`, value: made[kind]() },
        // A body breaks in a moment, of which a rate would give next to none.
        ...(kind === "broken" && !("number" in how)
          ? [{ op: "add" as const, path: `${path}/births/how`, value: { number: { number } } }]
          : []),
        ...(keeps || !births.map ? [] : [{ op: "add" as const, path: `${path}/births/map`, value: null }]),
      ];
    });
  }

  // A map needs UVs, or a mesh whose vertices have colours.
  let meshed = $derived(onMesh !== null && on !== "volume");
  let imported = $derived(meshed && onMesh?.shape !== undefined && "mesh" in onMesh.shape);
  let mappable = $derived(meshed || "grid" in from || births.map != null);
  let images = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]) => name),
  );
  let mapped = $derived(
    !births.map ? "" : "image" in births.map.of ? `image ${births.map.of.image.asset}` : "vertices",
  );
  let maps = $derived<[string, string][]>([
    ["", "none"],
    ...images.map((name): [string, string] => [`image ${name}`, `brightness of ${name}`]),
    // Only imported meshes come with colours.
    ...(imported || mapped === "vertices"
      ? [["vertices", "colours of its vertices"] as [string, string]]
      : []),
  ]);

  function pickMap(next: string) {
    const of: Schemas["MapOf"] =
      next === "vertices" ? { vertices: {} } : { image: { asset: next.slice("image ".length) } };
    void set("Map", "births/map", next ? { ...births.map, of } : null);
  }

  const mapSwitch = (part: "dark" | "all_alike", label: string) => ({ part, label });
</script>

{#snippet shape(path: string, of: Schemas["Shape"])}
  {#if "sphere" in of}
    <NumberField label="Radius" unit="m" step={0.05} target={at(`${path}.sphere.radius_m`)} />
  {:else if "box" in of}
    <VectorField label="Size" unit="m" target={at(`${path}.box.size_m`)} />
  {:else if "plane" in of}
    <NumberField label="Size x" unit="m" target={at(`${path}.plane.size_m[0]`)} />
    <NumberField label="Size z" unit="m" target={at(`${path}.plane.size_m[1]`)} />
  {:else if "cylinder" in of}
    <NumberField label="Radius" unit="m" step={0.05} target={at(`${path}.cylinder.radius_m`)} />
    <NumberField label="Height" unit="m" step={0.05} target={at(`${path}.cylinder.height_m`)} />
  {:else if "torus" in of}
    <NumberField label="Ring radius" unit="m" step={0.05} target={at(`${path}.torus.ring_m`)} />
    <NumberField label="Tube radius" unit="m" step={0.01} target={at(`${path}.torus.tube_m`)} />
  {/if}
{/snippet}

<Section title="Where">
  <Picker label="Born on" value={place} options={places} onpick={pickPlace} />
  {#if "shape" in from}{@render shape("from.shape.shape", from.shape.shape)}{/if}
  {#if onMesh}
    <Picker
      label="Of it"
      value={on}
      options={[
        ["surface", "its surface"],
        ["edges", "its edges"],
        ["vertices", "its vertices"],
        ["volume", "its inside"],
      ]}
      onpick={(v) => set("Source", `from/${source}/on`, v)}
    />
  {:else if "grid" in from}
    <VectorField
      label="Number"
      whole
      step={1}
      value={from.grid.count}
      oncommit={(change) => set("Number", "from/grid/count", change)}
    />
    <VectorField label="Spacing" unit="m" step={0.05} target={at("from.grid.spacing_m")} />
  {:else if "impacts" in from}
    <NumberField label="Least impulse" unit="N s" target={at("from.impacts.impulse_n_s")} />
  {/if}
  {#if !("impacts" in from)}
    <Picker
      label="Likely by"
      value={births.region == null ? "" : String(births.region)}
      options={[["", "all places alike"], ...regions]}
      onpick={(v) => set("Likely places", "births/region", v ? Number(v) : null)}
    />
  {/if}
  {#if mappable}
    <Picker label="Map" value={mapped} options={maps} onpick={pickMap} />
    {#if births.map}
      {#each [mapSwitch("dark", "Dark counts, not bright"), mapSwitch("all_alike", "Only for colour and size")] as { part, label } (part)}
        <Tick
          {label}
          checked={births.map[part] === true}
          onchange={(checked) => set("Map", `births/map/${part}`, checked)}
        />
      {/each}
    {/if}
  {/if}
  {#if onMesh || "curve" in from}
    <Tick
      label="Evenly spaced"
      checked={births.even === true}
      onchange={(checked) => set("Spacing", "births/even", checked)}
    />
  {/if}
</Section>
