// Quantities by which the Viewport colours what deforms and what flows, and their colours.

import type { Schemas } from "../api/client";

/** What can be coloured. */
export type Coloured = "surface" | "liquid";

interface Shown {
  label: string;
  unit: string;
  /** From the values to the unit. */
  scale: number;
  /** Top of the range at first, in the unit. */
  most: number;
  of: readonly Coloured[];
}

/** What can be shown, by its name in addresses. */
export const quantities = {
  stretch: { label: "Stretch", unit: "%", scale: 100, most: 5, of: ["surface"] },
  compression: { label: "Compression", unit: "%", scale: 100, most: 5, of: ["surface"] },
  bend: { label: "Bend", unit: "1/m", scale: 1, most: 20, of: ["surface"] },
  speed: { label: "Speed", unit: "m/s", scale: 1, most: 4, of: ["surface", "liquid"] },
  contact: { label: "Contact", unit: "%", scale: 100, most: 100, of: ["surface"] },
  pressure: { label: "Pressure", unit: "Pa", scale: 1, most: 500, of: ["surface", "liquid"] },
  vorticity: { label: "Vorticity", unit: "1/s", scale: 1, most: 40, of: ["liquid"] },
  age: { label: "Age", unit: "s", scale: 1, most: 4, of: ["liquid"] },
} as const satisfies Record<Schemas["SurfaceQuantity"] | "vorticity" | "age", Shown>;
export type Quantity = keyof typeof quantities;

/** What is measured of particles, by their ids, rising. */
export interface MeasuredParticles {
  ids: Uint32Array;
  values: Float32Array;
  /** The top of the range, in the unit of the values. */
  top: number;
}

/** The values of some particles, whose ids rise too; 0 for one that was not measured. */
export function valuesOf(ids: Uint32Array, { ids: known, values }: MeasuredParticles): Float32Array {
  const found = new Float32Array(ids.length);
  let at = 0;
  ids.forEach((id, i) => {
    while (at < known.length && known[at] < id) at++;
    if (known[at] === id) found[i] = values[at];
  });
  return found;
}

/** Colours from 0 to the top of the range, sRGB 0–1: even in lightness, so that steps read alike. */
const STOPS = [
  [0.13, 0.2, 0.27],
  [0.16, 0.38, 0.44],
  [0.33, 0.55, 0.47],
  [0.63, 0.68, 0.42],
  [0.93, 0.75, 0.42],
  [0.99, 0.9, 0.78],
];

/** The colour at a fraction of the range. */
export function colourAt(fraction: number): number[] {
  const at = Math.min(1, Math.max(0, fraction || 0)) * (STOPS.length - 1);
  const low = Math.min(STOPS.length - 2, Math.floor(at));
  return STOPS[low].map((from, i) => from + (STOPS[low + 1][i] - from) * (at - low));
}

/** The colours of values, linear, three numbers each; `most` is the top of the range. */
export function coloursOf(values: Float32Array, most: number): Float32Array {
  const table = Array.from({ length: 256 }, (_, i) => colourAt(i / 255).map(linear));
  const colours = new Float32Array(3 * values.length);
  const scale = most > 0 ? 255 / most : 0;
  values.forEach((value, i) => {
    const at = Math.round(Math.min(255, Math.max(0, value * scale)));
    colours.set(table[at], 3 * i);
  });
  return colours;
}

const linear = (v: number) => (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);

/** The colours as a gradient of the page. */
export const gradient = () =>
  `linear-gradient(to right, ${STOPS.map((stop) => `rgb(${stop.map((v) => Math.round(255 * v)).join(" ")})`).join(", ")})`;
