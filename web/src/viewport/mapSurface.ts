// A mesh at rest with the weights of a map, as the server sends it.
import * as THREE from "three";
import type { Topology } from "./deforming";
import type { MeshOfFrame } from "./frames";

export interface MapSurface {
  /** Positions at rest in the frame of the element, m. */
  places: Float32Array;
  topology: Topology;
  /** 0–1, one a vertex. */
  weights: Float32Array;
  /** The mesh as a frame has it. */
  mesh: MeshOfFrame;
}

/** Reads a map; see docs/formats.md. */
export function decodeMap(buffer: ArrayBuffer): MapSurface {
  const [vertices, faces] = new Uint32Array(buffer, 0, 2);
  const places = new Float32Array(buffer, 8, 3 * vertices);
  const index = new Uint32Array(buffer, 8 + 12 * vertices, 3 * faces);
  const weights = new Float32Array(buffer, 8 + 12 * vertices + 12 * faces, vertices).slice();
  const groups = new Map<string, number>();
  const smooth = new Uint32Array(vertices);
  for (let v = 0; v < vertices; v++) {
    const key = places.slice(3 * v, 3 * v + 3).join(" ");
    if (!groups.has(key)) groups.set(key, groups.size);
    smooth[v] = groups.get(key)!;
  }
  const topology = {
    index: new THREE.BufferAttribute(index, 1),
    smooth,
    groups: groups.size,
    uvs: null,
  };
  return { places, topology, weights, mesh: { topology: "", frame: 0, places } };
}

/** The brush as it is set. */
export interface BrushSettings {
  effect: "add" | "subtract" | "smooth";
  radius: number;
  strength: number;
  softness: number;
}

/** What a stroke adds so far to the weights that it began with: like the server, without telling apart what lies behind. */
export function brushed(
  surface: Pick<MapSurface, "places">,
  start: Float32Array,
  way: [number, number, number][],
  brush: BrushSettings,
): Float32Array {
  const weights = start.slice();
  const sign = { add: 1, subtract: -1, smooth: 0 }[brush.effect];
  if (sign === 0) return weights;
  const { places } = surface;
  for (let v = 0; v < weights.length; v++) {
    let least = Infinity;
    for (const [x, y, z] of way) {
      const square = (places[3 * v] - x) ** 2 + (places[3 * v + 1] - y) ** 2 + (places[3 * v + 2] - z) ** 2;
      if (square < least) least = square;
    }
    const amount = brush.strength * falloff(1 - Math.sqrt(least) / brush.radius, brush.softness);
    if (amount > 0) weights[v] = Math.min(1, Math.max(0, weights[v] + sign * amount));
  }
  return weights;
}

/** The part of the strength so far inside the brush's edge, 0–1. */
export function falloff(inward: number, softness: number): number {
  if (inward <= 0) return 0;
  if (inward >= softness) return 1;
  const s = inward / softness;
  return s * s * (3 - 2 * s);
}
