// What was measured of runs, as lines over their frames.
import type { MeasuredRun } from "../api/client";

export interface Line {
  frames: number[];
  values: number[];
}

const sum = (lists: number[][]) =>
  lists.reduce<number[]>((all, list) => list.map((v, i) => v + (all[i] ?? 0)), []);

/** The first value that there is at each frame. */
const first = (lists: (number | null)[][]) =>
  (lists[0] ?? []).map((_, i) => lists.map((list) => list[i]).find((value) => value != null) ?? null);

/** The measurements that can be plotted: name, unit, and the values by frame. */
export const MEASURES: { name: string; unit: string; of: (run: MeasuredRun) => number[] }[] = [
  { name: "Fastest body", unit: "m/s", of: (run) => run.max_speed_m_s },
  { name: "Kinetic energy", unit: "J", of: (run) => run.kinetic_j },
  { name: "Potential energy", unit: "J", of: (run) => run.potential_j },
  { name: "Contacts", unit: "", of: (run) => run.contacts },
  { name: "Deepest overlap", unit: "mm", of: (run) => run.deepest_overlap_m.map((v) => 1e3 * v) },
  { name: "Particles", unit: "", of: (run) => sum(run.particles.map((of) => of.alive)) },
  {
    name: "Volume kept",
    unit: "%",
    of: (run) => first(run.liquids.map((of) => of.volume_kept)).map((v) => 100 * (v ?? 1)),
  },
  {
    name: "Divergence left",
    unit: "1/s",
    of: (run) => first(run.liquids.map((of) => of.divergence_1_s)).map((v) => v ?? 0),
  },
];

/** The measurement of one run as a line; of a run without particles, say, one along zero. */
export function lineOf(measure: string, run: MeasuredRun): Line {
  const values = MEASURES.find(({ name }) => name === measure)!.of(run);
  return { frames: run.frames, values: run.frames.map((_, i) => values[i] ?? 0) };
}

/** The frames and values that some lines span. */
export function extentOf(lines: Line[]): { first: number; last: number; low: number; high: number } {
  const frames = lines.flatMap((line) => line.frames);
  const values = lines.flatMap((line) => line.values);
  const ends = (of: number[], otherwise: [number, number]) =>
    of.length ? of.reduce(([a, b], v) => [Math.min(a, v), Math.max(b, v)], [of[0], of[0]]) : otherwise;
  const [first, last] = ends(frames, [1, 1]);
  const [low, high] = ends(values, [0, 1]);
  return { first, last, low: Math.min(0, low), high: high > low ? high : low + 1 };
}
