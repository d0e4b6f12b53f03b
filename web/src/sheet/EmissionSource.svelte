<script lang="ts">
  // Where particles are born.
  import ParameterRows from "../fields/ParameterRows.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import { kindOf, type Element, type Operation, type Particles, type Schemas } from "../api/client";
  import EmissionMap from "./EmissionMap.svelte";
  import ShapeFields from "./ShapeFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import { options } from "../state/options";
  import { selection } from "../state/selection.svelte";
  import { shot, solidOf } from "../state/shot.svelte";
  import { meant } from "../state/target";
  import { values } from "../state/values.svelte";
  import { newSource, placeOf, places, takesMap } from "../state/sources";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let source = $derived(particles.source ?? { point: {} });
  let emission = $derived<Partial<Schemas["Emission"]>>(particles.emission ?? {});
  let schedule = $derived(emission.schedule ?? { rate: { per_s: 200 } });
  // Born on a mesh: a shape, or the bodies of a solid, whole or as they break.
  let onMesh = $derived(
    "shape" in source
      ? { domain: source.shape.domain, shape: source.shape.shape }
      : "solid" in source
        ? { domain: source.solid.domain, shape: solidOf(shot.element(source.solid.solid))?.shape }
        : "broken" in source
          ? { domain: source.broken.domain, shape: solidOf(shot.element(source.broken.solid))?.shape }
          : null,
  );
  let domain = $derived(onMesh?.domain ?? "surface");
  let regions = $derived(options((e) => "region" in e.kind));
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.particles.${path}` });
  const set = (label: string, path: string, value: unknown) => values.assign(at(path), label, value);

  function pickPlace(place: string) {
    const curve = shot.elements.find((e) => "curve" in e.kind)?.id ?? 0;
    const next = newSource(place, domain, emission.map != null, curve);
    if (!next) return;
    const count = "burst" in schedule ? schedule.burst.count : 100;
    const mapped = "shape" in next || "solid" in next || "broken" in next || "grid" in next;
    const born = meant(at("source")).map(({ id }) => id);
    const more = born.length > 1 ? ` and ${born.length - 1} more` : "";
    const change = ({ id, kind }: Element, index: number): Operation[] => {
      if (!born.includes(id) || !("particles" in kind)) return [];
      const path = `/elements/${index}/kind/particles`;
      const { schedule, map } = kind.particles.emission ?? {};
      const operations: Operation[] = [{ op: "add", path: `${path}/source`, value: next }];
      // A body breaks in a moment, of which a rate would give next to none.
      if ("broken" in next && !(schedule && "total" in schedule))
        operations.push({ op: "add", path: `${path}/emission/schedule`, value: { total: { count } } });
      // A liquid releases by its own numbers, and carries what it releases.
      if ("liquid" in next) {
        operations.push({ op: "add", path: `${path}/emission/schedule`, value: { released: {} } });
        operations.push({ op: "add", path: `${path}/carried`, value: { liquid: next.liquid.liquid } });
      } else if (schedule && "released" in schedule)
        operations.push({ op: "add", path: `${path}/emission/schedule`, value: { rate: { per_s: 200 } } });
      // A pool is filled at once.
      if ("pool" in next)
        operations.push({ op: "add", path: `${path}/emission/schedule`, value: { fill: {} } });
      // A map is of no use where there are no UVs.
      if (!mapped && map) operations.push({ op: "add", path: `${path}/emission/map`, value: null });
      return operations;
    };
    void shot.edit(`Source of ${element.name}${more}`, ({ elements }) => elements.flatMap(change));
  }

  // A map needs UVs, or a mesh whose vertices have colours.
  let imported = $derived(takesMap(source) && onMesh?.shape !== undefined && "mesh" in onMesh.shape);
  let mappable = $derived(takesMap(source) || emission.map != null);
</script>

<Section title="Where">
  <Picker
    label="Born on"
    target={at("source")}
    value={placeOf(source)}
    options={places(
      source,
      shot.elements.filter((e) => e.id !== element.id),
      particles.liquid != null,
    )}
    onpick={pickPlace}
  />
  {#if "shape" in source}
    <ShapeFields
      {element}
      ids={selection.with(element.id)}
      shape={source.shape.shape}
      path="kind.particles.source.shape.shape"
    />
  {/if}
  {#if onMesh && !("fill" in schedule)}
    <Picker
      label="Of it"
      target={at(`source.${kindOf(source)}.domain`)}
      value={domain}
      options={[
        ["surface", "its surface"],
        ["edges", "its edges"],
        ["vertices", "its vertices"],
        ["volume", "its inside"],
      ]}
      onpick={(v) => set("Source", `source.${kindOf(source)}.domain`, v)}
    />
  {:else if "seam" in source}
    <Picker
      label="Along"
      value={String(source.seam.curve)}
      options={options((e) => "curve" in e.kind)}
      onpick={(v) => set("Seam", "source.seam.curve", Number(v))}
    />
    <ParameterField target={at("source.seam.starts")} />
    <ParameterField target={at("source.seam.lift")} />
  {:else if "grid" in source}
    <ParameterField target={at("source.grid.count")} />
    <ParameterField target={at("source.grid.spacing_m")} />
  {:else if "liquid" in source}
    <ParameterRows target={at("source.liquid")} />
  {:else if "impacts" in source}
    <ParameterField target={at("source.impacts.impulse_n_s")} />
  {/if}
  {#if !("impacts" in source || "seam" in source)}
    <Picker
      label="Likely by"
      target={at("emission.region")}
      value={emission.region == null ? "" : String(emission.region)}
      options={[["", "all places alike"], ...regions]}
      onpick={(v) => set("Likely places", "emission.region", v ? Number(v) : null)}
    />
  {/if}
  {#if "pool" in source}
    <p class="text-faint">
      Fills what stands around it, up to its own height: a basin, a bowl, a jar. Place it inside, where the
      surface is to be.
    </p>
  {/if}
  {#if onMesh && particles.liquid}
    <Tick label="Carries the UVs of its source" target={at("emission.carries_uv")} />
  {/if}
  {#if mappable}
    <EmissionMap
      {element}
      map={emission.map ?? null}
      {imported}
      solid={"solid" in source ? shot.element(source.solid.solid) : undefined}
    />
  {/if}
  {#if (onMesh || "curve" in source) && !particles.liquid}
    <Tick label="Evenly spaced" target={at("emission.evenly_spaced")} />
  {/if}
</Section>
