<script lang="ts">
  // Where particles are born.
  import type { Element, Particles, Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import VectorField from "../fields/VectorField.svelte";
  import { kindOf } from "../state/particles";
  import { shot, solidOf } from "../state/shot.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let from = $derived(particles.source ?? { point: {} });
  let sourceKind = $derived(kindOf(from));
  let emission = $derived<Partial<Schemas["Emission"]>>(particles.emission ?? {});
  let how = $derived(emission.schedule ?? { rate: { per_s: 200 } });
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
  let solids = $derived(others((e) => "solid" in e.kind && e.kind.solid.from_particles == null));
  let breaking = $derived(
    others(
      (e) =>
        solidOf(e)?.body?.breaking_impulse_n_s != null || ("broken" in from && from.broken.solid === e.id),
    ),
  );
  let curves = $derived(others((e) => "curve" in e.kind));
  let particleElements = $derived(others((e) => "particles" in e.kind));
  let regions = $derived(others((e) => "region" in e.kind));
  const at = (path: string) => ({ element, ids: [element.id], path: `kind.particles.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/kind/particles/${path}`, value);

  type Source = Schemas["Source"];
  const SHAPES: Record<string, Schemas["Shape"]> = {
    sphere: { sphere: { radius_m: 0.25 } },
    box: { box: { size_m: [1, 1, 1], edge_m: 0 } },
    plane: { plane: { size_m: [2, 2] } },
    cylinder: { cylinder: { radius_m: 0.25, height_m: 0.5 } },
    torus: { torus: { major_radius_m: 0.4, minor_radius_m: 0.05 } },
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
              : sourceKind,
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
    ...particleElements.map(([id, name]): [string, string] => [`particles ${id}`, name]),
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
      broken: () => ({ broken: { solid: Number(rest), on: emission.map ? on : "volume" } }),
      curve: () => ({ curve: { curve: Number(rest) } }),
      particles: () => ({ particles: { of: Number(rest) } }),
      impacts: () => ({ impacts: { of: [], impulse_n_s: 1 } }),
    };
    if (next === "shape mesh") return;
    const number = "burst" in how ? how.burst.count : 100;
    void shot.edit(`Source of ${element.name}`, (document) => {
      const path = `/elements/${document.elements.findIndex((e) => e.id === element.id)}/kind/particles`;
      const keeps = ["shape", "solid", "broken", "grid"].includes(kind);
      // A map is of no use where there are no UVs.
      return [
        { op: "add", path: `${path}/source`, value: made[kind]() },
        // A body breaks in a moment, of which a rate would give next to none.
        ...(kind === "broken" && !("total" in how)
          ? [{ op: "add" as const, path: `${path}/emission/schedule`, value: { total: { count: number } } }]
          : []),
        ...(keeps || !emission.map
          ? []
          : [{ op: "add" as const, path: `${path}/emission/map`, value: null }]),
      ];
    });
  }

  // A map needs UVs, or a mesh whose vertices have colours.
  let meshed = $derived(onMesh !== null && on !== "volume");
  let imported = $derived(meshed && onMesh?.shape !== undefined && "mesh" in onMesh.shape);
  let mappable = $derived(meshed || "grid" in from || emission.map != null);
  let images = $derived(
    Object.entries(shot.document?.assets ?? {})
      .filter(([, asset]) => asset.kind === "image")
      .map(([name]) => name),
  );
  let mapped = $derived(
    !emission.map ? "" : "image" in emission.map.of ? `image ${emission.map.of.image.asset}` : "vertices",
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
    void set("Map", "emission/map", next ? { ...emission.map, of } : null);
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
    <NumberField label="Ring radius" unit="m" step={0.05} target={at(`${path}.torus.major_radius_m`)} />
    <NumberField label="Tube radius" unit="m" step={0.01} target={at(`${path}.torus.minor_radius_m`)} />
  {/if}
{/snippet}

<Section title="Where">
  <Picker label="Born on" value={place} options={places} onpick={pickPlace} />
  {#if "shape" in from}{@render shape("source.shape.shape", from.shape.shape)}{/if}
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
      onpick={(v) => set("Source", `source/${sourceKind}/on`, v)}
    />
  {:else if "grid" in from}
    <VectorField
      label="Number"
      whole
      step={1}
      value={from.grid.count}
      oncommit={(change) => set("Number", "from/grid/count", change)}
    />
    <VectorField label="Spacing" unit="m" step={0.05} target={at("source.grid.spacing_m")} />
  {:else if "impacts" in from}
    <NumberField label="Least impulse" unit="N s" target={at("source.impacts.impulse_n_s")} />
  {/if}
  {#if !("impacts" in from)}
    <Picker
      label="Likely by"
      value={emission.region == null ? "" : String(emission.region)}
      options={[["", "all places alike"], ...regions]}
      onpick={(v) => set("Likely places", "emission/region", v ? Number(v) : null)}
    />
  {/if}
  {#if mappable}
    <Picker label="Map" value={mapped} options={maps} onpick={pickMap} />
    {#if emission.map}
      {#each [mapSwitch("dark", "Dark counts, not bright"), mapSwitch("all_alike", "Only for colour and size")] as { part, label } (part)}
        <Tick
          {label}
          checked={emission.map[part] === true}
          onchange={(checked) => set("Map", `emission/map/${part}`, checked)}
        />
      {/each}
    {/if}
  {/if}
  {#if onMesh || "curve" in from}
    <Tick
      label="Evenly spaced"
      checked={emission.evenly_spaced === true}
      onchange={(checked) => set("Spacing", "emission/evenly_spaced", checked)}
    />
  {/if}
</Section>
