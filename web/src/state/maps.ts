// Words for maps, and what follows when one is renamed or deleted.
import type { Element, Operation, Schemas, Solid } from "../api/client";

type SourceKind =
  | "painted"
  | "whole"
  | "region"
  | "curve"
  | "inside"
  | "border"
  | "side"
  | "curvature"
  | "noise"
  | "image"
  | "vertices"
  | "group";

export const SOURCE_NAMES: Record<SourceKind, string> = {
  painted: "painted",
  whole: "1 everywhere",
  region: "a region",
  curve: "near a curve",
  inside: "inside a curve",
  border: "near the borders",
  side: "rising to a side",
  curvature: "where it is curved",
  noise: "noise",
  image: "an image",
  vertices: "colours of its vertices",
  group: "a group of faces",
};

/** How the weight of a layer, or of a part of a region, goes with the weight so far. */
export const COMBINE_NAMES: [Schemas["Combine"], string][] = [
  ["add", "add"],
  ["multiply", "multiply"],
  ["subtract", "subtract"],
  ["minimum", "the least"],
  ["maximum", "the most"],
  ["replace", "over it"],
];

export const SIDE_NAMES: [Schemas["Side"], string][] = [
  ["left", "left"],
  ["right", "right"],
  ["back", "back"],
  ["front", "front"],
  ["top", "top"],
  ["bottom", "bottom"],
];

export const SCALED_NAMES: [Schemas["ScaledQuantity"], string][] = [
  ["stiffness", "all stiffness"],
  ["warp", "stretch along"],
  ["weft", "stretch across"],
  ["shear", "shear"],
  ["bending", "bending"],
  ["rest_length", "rest length"],
];

/** A source as it begins; `first` are elements and images that it can name. */
export function startOfSource(
  kind: string,
  first: { region?: number; curve?: number; image?: string; group?: string },
): Record<string, unknown> {
  const starts: Record<SourceKind, unknown> = {
    painted: { strokes: [] },
    whole: {},
    region: { region: first.region },
    curve: { curve: first.curve, width_m: 0.05, edge_m: 0.05, grown: 1, starts: 1 },
    inside: { curve: first.curve, edge_m: 0.05 },
    border: { width_m: 0.2 },
    side: { side: "right" },
    curvature: { radius_m: 0.1 },
    noise: { size_m: 0.3 },
    image: { asset: first.image },
    vertices: {},
    group: { group: first.group },
  };
  return { [kind]: starts[kind as SourceKind] };
}

/** A solid with what names a map changed; null: it is named no longer. */
function mapNamesOf(solid: Solid, of: (name: string) => string | null): Solid {
  const next = { ...solid };
  const parts = <T extends Pick<Schemas["Cloth"], "pins" | "scaled">>(part: T): T => ({
    ...part,
    pins: (part.pins ?? []).flatMap((pin) => {
      if (!("map" in pin.part)) return [pin];
      const map = of(pin.part.map);
      return map === null ? [] : [{ ...pin, part: { map } }];
    }),
    scaled: (part.scaled ?? []).flatMap((factor) => {
      const map = of(factor.map);
      return map === null ? [] : [{ ...factor, map }];
    }),
  });
  if (solid.cloth) {
    const tear_map = solid.cloth.tear_map == null ? null : of(solid.cloth.tear_map);
    next.cloth = { ...parts(solid.cloth), tear_map };
  }
  if (solid.soft) next.soft = parts(solid.soft);
  if (solid.sway?.map != null) next.sway = { ...solid.sway, map: of(solid.sway.map) };
  if (solid.look?.layers) {
    const layers = solid.look.layers.flatMap((layer) => {
      if (!layer.by || !("map" in layer.by)) return [layer];
      const map = of(layer.by.map.map);
      return map === null ? [] : [{ ...layer, by: { map: { map } } }];
    });
    next.look = { ...solid.look, layers };
  }
  return next;
}

/** The solid with a map of another name, in all of it that names the map. */
export function mapNamed(solid: Solid, index: number, name: string): Solid {
  const old = solid.maps![index].name;
  const maps = solid.maps!.map((map, i) => (i === index ? { ...map, name } : map));
  return mapNamesOf({ ...solid, maps }, (map) => (map === old ? name : map));
}

/** The solid without a map, and without pins, factors and layers of its look by it. */
export function withoutMap(solid: Solid, index: number): Solid {
  const old = solid.maps![index].name;
  const maps = solid.maps!.toSpliced(index, 1);
  return mapNamesOf({ ...solid, maps }, (map) => (map === old ? null : map));
}

/** The changes to particles that are born on a solid by a map which gets another name, or is deleted (null). */
export function birthsByMap(
  elements: Element[],
  solid: number,
  old: string,
  name: string | null,
): Operation[] {
  return elements.flatMap(({ kind }, index) => {
    if (!("particles" in kind)) return [];
    const { source, emission } = kind.particles;
    const map = emission?.map;
    const born = source && "solid" in source && source.solid.solid === solid;
    if (!born || !map || !("map" in map.source) || map.source.map.map !== old) return [];
    const value = name === null ? null : { ...map, source: { map: { map: name } } };
    return [{ op: "add", path: `/elements/${index}/kind/particles/emission/map`, value }];
  });
}
