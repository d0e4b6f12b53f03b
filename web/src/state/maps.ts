// Words for maps, and what follows when one is renamed or deleted.
import type { Schemas, Solid } from "../api/client";

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
  | "vertices";

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
  first: { region?: number; curve?: number; image?: string },
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
  };
  return { [kind]: starts[kind as SourceKind] };
}

type Deforming = Pick<Schemas["Cloth"], "pins" | "scaled">;

/** A solid with what names maps in its cloth and soft parts changed. */
function renamed(solid: Solid, of: (parts: Deforming) => Deforming): Solid {
  const next = { ...solid };
  if (solid.cloth) next.cloth = { ...solid.cloth, ...of(solid.cloth) };
  if (solid.soft) next.soft = { ...solid.soft, ...of(solid.soft) };
  return next;
}

/** The solid with a map of another name, in all that names it. */
export function mapNamed(solid: Solid, index: number, name: string): Solid {
  const old = solid.maps![index].name;
  const maps = solid.maps!.map((map, i) => (i === index ? { ...map, name } : map));
  return renamed({ ...solid, maps }, ({ pins = [], scaled = [] }) => ({
    pins: pins.map((pin) =>
      "map" in pin.part && pin.part.map === old ? { ...pin, part: { map: name } } : pin,
    ),
    scaled: scaled.map((factor) => (factor.map === old ? { ...factor, map: name } : factor)),
  }));
}

/** The solid without a map, and without pins and factors by it. */
export function withoutMap(solid: Solid, index: number): Solid {
  const { name } = solid.maps![index];
  return renamed({ ...solid, maps: solid.maps!.toSpliced(index, 1) }, ({ pins = [], scaled = [] }) => ({
    pins: pins.filter((pin) => !("map" in pin.part && pin.part.map === name)),
    scaled: scaled.filter((factor) => factor.map !== name),
  }));
}
