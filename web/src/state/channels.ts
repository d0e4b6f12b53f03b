// The words for channels.
import { declared } from "./declared";
import type { Channel, Interpolation } from "./keys";

export const INTERPOLATIONS: [Interpolation, string][] = [
  ["hold", "hold"],
  ["linear", "linear"],
  ["smooth", "smooth"],
  ["ease_in", "ease in"],
  ["ease_out", "ease out"],
  ["ease", "ease both"],
  ["free", "free handles"],
];

export const OUTSIDE: [NonNullable<Channel["before"]>, string][] = [
  ["hold", "hold"],
  ["continue", "continue"],
  ["repeat", "repeat"],
  ["repeat_offset", "repeat, going on"],
  ["back_and_forth", "back and forth"],
];

/** The plain name of a value by its path: `Place y` for `placement.position_m[1]`. */
export function nameOf(path: string): string {
  const declaration = declared(path);
  const point = /\.points_m\.(\d+)/.exec(path);
  const word = point ? `Point ${Number(point[1]) + 1}` : (declaration?.label ?? path);
  const part = /\[(\d)\]$/.exec(path);
  return part ? `${word} ${(declaration?.parts ?? ["x", "y", "z"])[Number(part[1])]}` : word;
}
