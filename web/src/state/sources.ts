// Where particles are born, as the choices of a Picker.
import { kindOf, type Element, type NameOf, type Schemas } from "../api/client";
import { named, type Option } from "./options";
import { solidOf } from "./shot.svelte";

type Source = Schemas["Source"];
type Domain = Schemas["EmissionDomain"];

const SHAPES = {
  sphere: { sphere: { radius_m: 0.25 } },
  box: { box: { size_m: [1, 1, 1], edge_m: 0 } },
  plane: { plane: { size_m: [2, 2] } },
  cylinder: { cylinder: { radius_m: 0.25, height_m: 0.5 } },
  torus: { torus: { major_radius_m: 0.4, minor_radius_m: 0.05 } },
} satisfies Partial<Record<NameOf<Schemas["Shape"]>, Schemas["Shape"]>>;

/** Whether births can go by an image: only where the places have UVs. */
export function takesMap(source: Source): boolean {
  const { domain } =
    "shape" in source
      ? source.shape
      : "solid" in source
        ? source.solid
        : "broken" in source
          ? source.broken
          : { domain: "volume" };
  return "grid" in source || domain !== "volume";
}

/** Whether an element's particles are born where a map can say how likely. */
export function mappable(element: Element | undefined): boolean {
  return (
    element !== undefined &&
    "particles" in element.kind &&
    takesMap(element.kind.particles.source ?? { point: {} })
  );
}

/** A source as one of the choices: its kind, and which shape or element. */
export function placeOf(source: Source): string {
  if ("shape" in source) return `shape ${kindOf(source.shape.shape)}`;
  if ("solid" in source) return `solid ${source.solid.solid}`;
  if ("broken" in source) return `broken ${source.broken.solid}`;
  if ("seam" in source) return `seam ${source.seam.solid}`;
  if ("curve" in source) return `curve ${source.curve.curve}`;
  if ("liquid" in source) return `liquid ${source.liquid.liquid}`;
  if ("particles" in source) return `particles ${source.particles.particles}`;
  return kindOf(source);
}

/** All choices for the particles of an element, given the elements beside it. */
export function places(source: Source, others: Element[], liquid = false): Option[] {
  const breaks = (e: Element) =>
    solidOf(e)?.body?.breaking_impulse_n_s != null || ("broken" in source && source.broken.solid === e.id);
  const each = (kind: string, words: (name: string) => string, test: (e: Element) => boolean) =>
    named(others.filter(test)).map(([id, name]): Option => [`${kind} ${id}`, words(name)]);
  const mesh = "shape" in source && "mesh" in source.shape.shape;
  return [
    ["point", "a point"],
    ["grid", "a grid of points"],
    ...(liquid ? [["pool", "a pool up to its height"] as Option] : []),
    ...Object.keys(SHAPES).map((name): Option => [`shape ${name}`, `a ${name} of its own`]),
    ...(mesh ? [["shape mesh", "a mesh of its own"] as Option] : []),
    ...each(
      "solid",
      (name) => name,
      (e) => solidOf(e) !== undefined && solidOf(e)!.from_particles == null,
    ),
    ...each("broken", (name) => `${name} as it breaks`, breaks),
    ...each(
      "seam",
      (name) => `a curve laid on ${name}`,
      (e) =>
        others.some((other) => "curve" in other.kind) &&
        solidOf(e) !== undefined &&
        solidOf(e)!.from_particles == null,
    ),
    ...each(
      "curve",
      (name) => name,
      (e) => "curve" in e.kind,
    ),
    ...each(
      "particles",
      (name) => name,
      (e) => "particles" in e.kind,
    ),
    ...(liquid
      ? []
      : each(
          "liquid",
          (name) => `${name} where it is fast`,
          (e) => "particles" in e.kind && e.kind.particles.liquid != null,
        )),
    ["impacts", "hits of bodies"],
  ];
}

/** What a liquid releases at first. */
export const releasedFrom = (liquid: number): Source => ({
  liquid: {
    liquid,
    by_speed_m3_s: 0,
    by_curvature_m3_s: 1e6,
    by_trapped_air_m3_s: 1e6,
    least_speed_m_s: 1,
    full_speed_m_s: 4,
  },
});

/** The source that a choice begins as, a seam along a curve; null where it is not to be chosen. */
export function newSource(place: string, domain: Domain, mapped: boolean, along = 0): Source | null {
  const [kind, which] = place.split(" ");
  const id = Number(which);
  if (kind === "point") return { point: {} };
  if (kind === "pool") return { pool: {} };
  if (kind === "grid") return { grid: { count: [10, 1, 10], spacing_m: [0.1, 0.1, 0.1] } };
  if (kind === "shape")
    return which in SHAPES ? { shape: { shape: SHAPES[which as keyof typeof SHAPES], domain } } : null;
  if (kind === "solid") return { solid: { solid: id, domain } };
  // A map has no weight inside a body.
  if (kind === "broken") return { broken: { solid: id, domain: mapped ? domain : "volume" } };
  if (kind === "seam") return { seam: { solid: id, curve: along, starts: 1, lift: 0.5 } };
  if (kind === "curve") return { curve: { curve: id } };
  if (kind === "particles") return { particles: { particles: id } };
  if (kind === "liquid") return releasedFrom(id);
  return { impacts: { bodies: [], impulse_n_s: 1 } };
}
