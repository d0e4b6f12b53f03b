<script lang="ts">
  import type { Element, Particles, Schemas } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { forecast, kindOf } from "../state/particles";
  import { shot, solidOf } from "../state/shot.svelte";
  import { bytes } from "../state/time";
  import { values } from "../state/values.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let from = $derived(particles.from ?? { point: {} });
  let source = $derived(kindOf(from));
  let births = $derived<Partial<Schemas["Births"]>>(particles.births ?? {});
  let how = $derived(births.how ?? { rate: { per_s: 200 } });
  let start = $derived<Partial<Schemas["Start"]>>(particles.start ?? {});
  let on = $derived("shape" in from ? from.shape.on : "solid" in from ? from.solid.on : "surface");
  const others = (test: (e: Element) => boolean) =>
    shot.elements
      .filter((e) => e.id !== element.id && test(e))
      .map((e): [string, string] => [String(e.id), e.name]);
  let solids = $derived(others((e) => "solid" in e.is && e.is.solid.from_particles == null));
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
      curve: () => ({ curve: { curve: Number(rest) } }),
      particles: () => ({ particles: { of: Number(rest) } }),
      impacts: () => ({ impacts: { of: [], impulse_n_s: 1 } }),
    };
    if (next === "shape mesh") return;
    void shot.edit(`Source of ${element.name}`, (document) => {
      const path = `/elements/${document.elements.findIndex((e) => e.id === element.id)}/is/particles`;
      const keeps = ["shape", "solid", "grid"].includes(kind);
      // A map is of no use where there are no UVs.
      return [
        { op: "add", path: `${path}/from`, value: made[kind]() },
        ...(keeps || !births.map ? [] : [{ op: "add" as const, path: `${path}/births/map`, value: null }]),
      ];
    });
  }

  // A map needs UVs, or a mesh whose vertices have colours.
  let meshed = $derived(("shape" in from || "solid" in from) && on !== "volume");
  let stood = $derived(
    "shape" in from
      ? from.shape.shape
      : "solid" in from
        ? solidOf(shot.element(from.solid.solid))?.shape
        : undefined,
  );
  let imported = $derived(meshed && stood !== undefined && "mesh" in stood);
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

  let keyed = $derived(
    source === "impacts" ||
      Object.keys(element.motion ?? {}).some((path) => /births\.how|lifespan_s/.test(path)),
  );
  let foreseen = $derived(shot.document && forecast(particles, shot.document.timing, keyed));

  function pickHow(next: string) {
    const number = "number" in how ? how.number.number : "at_once" in how ? how.at_once.number : 1000;
    const made: Record<string, Schemas["Often"]> = {
      rate: { rate: { per_s: 200 } },
      number: { number: { number } },
      at_once: { at_once: { number } },
      never: { never: {} },
    };
    void set("Births", "births/how", made[next]);
  }

  const frame = (label: string, part: "from_frame" | "to_frame", blank: string) => ({ label, part, blank });
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
  {#if "shape" in from || "solid" in from}
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
        <label class="flex min-h-[27px] items-center gap-2">
          <input
            type="checkbox"
            class="accent-[var(--lime)]"
            checked={births.map[part] === true}
            onchange={(event) => set("Map", `births/map/${part}`, event.currentTarget.checked)}
          />
          {label}
        </label>
      {/each}
    {/if}
  {/if}
  {#if "shape" in from || "solid" in from || "curve" in from}
    <label class="flex min-h-[27px] items-center gap-2">
      <input
        type="checkbox"
        class="accent-[var(--lime)]"
        checked={births.even === true}
        onchange={(event) => set("Spacing", "births/even", event.currentTarget.checked)}
      /> Evenly spaced
    </label>
  {/if}
</Section>
<Section
  title="How many"
  note={foreseen
    ? `about ${foreseen.alive.toLocaleString("en")} at once, ${bytes(foreseen.bytes)} a frame`
    : ""}
>
  <Picker
    label="Born"
    value={kindOf(how)}
    options={[
      ["rate", source === "impacts" ? "so many a second of a hit" : "so many a second"],
      ["number", source === "impacts" ? "a number for each hit" : "a number over the frames"],
      ["at_once", "all at once"],
      ["never", "only of other particles"],
    ]}
    onpick={pickHow}
  />
  {#if "rate" in how}
    <NumberField label="Rate" unit="per s" step={10} target={at("births.how.rate.per_s")} />
  {:else if "number" in how}
    <NumberField
      label="Number"
      step={100}
      whole
      value={how.number.number}
      oncommit={(v) => set("Number", "births/how/number/number", v)}
    />
  {:else if "at_once" in how}
    <NumberField
      label="Number"
      step={100}
      whole
      value={how.at_once.number}
      oncommit={(v) => set("Number", "births/how/at_once/number", v)}
    />
  {/if}
  {#if !("never" in how)}
    {#each [frame("From frame", "from_frame", "the start"), frame("To frame", "to_frame", "the end")] as field (field.part)}
      <NumberField
        label={field.label}
        step={1}
        whole
        blank={field.blank}
        value={births[field.part]}
        oncommit={(v) => set("Span", `births/${field.part}`, Math.max(0, v))}
        onclear={() => set("Span", `births/${field.part}`, null)}
      />
    {/each}
    <NumberField
      label="Preroll"
      unit="s"
      step={0.5}
      value={births.preroll_s ?? 0}
      oncommit={(v) => set("Preroll", "births/preroll_s", v)}
    />
  {/if}
  <NumberField
    label="Seed"
    step={1}
    whole
    value={particles.seed ?? 0}
    oncommit={(v) => set("Seed", "seed", Math.max(0, v))}
  />
</Section>
<Section title="At birth" note="± at most">
  <Picker
    label="Direction"
    value={start.direction ?? "up"}
    options={[
      ["up", "along its own y"],
      ["normal", "out of the surface"],
      ["motion", "the way its source moves"],
    ]}
    onpick={(v) => set("Direction", "start/direction", v)}
  />
  <NumberField
    label="Spread"
    unit="°"
    scale={180 / Math.PI}
    step={1}
    slide={[0, 180]}
    target={at("start.spread_rad")}
  />
  <NumberField label="Speed" unit="m/s" step={0.1} target={at("start.speed_m_s")} />
  <NumberField label="± speed" step={0.05} slide={[0, 1]} target={at("start.speed_variation")} />
  <NumberField label="Source’s motion" step={0.05} slide={[0, 1]} target={at("start.inherit")} />
  <NumberField
    label="Lifespan"
    unit="s"
    step={0.1}
    blank="to the end"
    target={at("start.lifespan_s")}
    onclear={() => values.set(at("start.lifespan_s"), "Lifespan", null)}
  />
  {#if start.lifespan_s !== null}
    <NumberField label="± lifespan" step={0.05} slide={[0, 1]} target={at("start.lifespan_variation")} />
  {/if}
  <NumberField label="Size" unit="mm" scale={1000} step={1} target={at("start.size_m")} />
  <NumberField label="± size" step={0.05} slide={[0, 1]} target={at("start.size_variation")} />
  <NumberField label="Random turn" step={0.05} slide={[0, 1]} target={at("start.turn_variation")} />
  <NumberField label="Spin" unit="rad/s" step={0.5} target={at("start.spin_rad_s")} />
  {#if start.spin_rad_s}
    <NumberField label="± spin" step={0.05} slide={[0, 1]} target={at("start.spin_variation")} />
  {/if}
</Section>
