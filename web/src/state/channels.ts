// The words for channels.
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

const NAMES: Record<string, string> = {
  position_m: "Place",
  orientation_rad: "Turn",
  launch_velocity: "Velocity",
  launch_angular_velocity: "Spin",
  along: "Along the curve",
  hidden: "Hidden",
  enabled: "On",
  restitution: "Bounce",
  restitution_variation: "± bounce",
  density_kg_m3: "Density",
  mass_kg: "Mass",
};
const UNITS = /_(n_s_m|kg_m3|m_s2|m_s|n_s|rad|mm|kg|n|s|m)$/;

/** The plain name of a value by its path: `Place y` for `placement.position_m[1]`. */
export function nameOf(path: string): string {
  const [, last, part] = /([^.[]+)(?:\[(\d)\])?$/.exec(path) ?? ["", path, undefined];
  const word = /^\d+$/.test(last)
    ? `Point ${Number(last) + 1}`
    : (NAMES[last] ?? capital(last.replace(UNITS, "").replaceAll("_", " ")));
  return part === undefined ? word : `${word} ${"xyz"[Number(part)]}`;
}

const capital = (word: string) => word[0].toUpperCase() + word.slice(1);
