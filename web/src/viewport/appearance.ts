// How particles appear: their colours, sizes, and which solid each is an instance of.
import type { Schemas } from "../api/client";
import { coloursOf, valuesOf, type MeasuredParticles } from "../state/colouring";
import type { ParticlesOfFrame } from "./frames";

type Particles = Schemas["Particles"];

/** What the Viewport shows of particles beside their look. */
export interface Judging {
  /** What their colour tells; null: their look. */
  by: "age" | "speed" | "element" | null;
  /** Every so many are drawn. */
  every: number;
  /** What is measured of them; it is told before all else. */
  measured?: MeasuredParticles;
}

/** Speed that counts as fast when speed is judged, m/s. */
const FAST = 8;
/** Steps of a colour or size along life or speed. */
const STEPS = 128;
/** Step of the velocities in a frame, m/s. */
export const VELOCITY_STEP = 0.02;

/** A number in 0–1 that is a particle's own, as the core has it. */
export function ownRandom(seed: number, id: number): number {
  const pcg = (v: number) => {
    const state = (Math.imul(v, 747796405) + 2891336453) >>> 0;
    const word = Math.imul(((state >>> ((state >>> 28) + 4)) ^ state) >>> 0, 277803737) >>> 0;
    return ((word >>> 22) ^ word) >>> 0;
  };
  return pcg((pcg((pcg(seed) ^ id) >>> 0) ^ 0x51) >>> 0) / 0xffffffff;
}

/** Values at even shares, linear between stops; the blank one without stops. */
function ramp(stops: { at: number; value: number[] }[], blank: number[]): Float32Array {
  const width = blank.length;
  const out = new Float32Array((STEPS + 1) * width);
  for (let i = 0; i <= STEPS; i++) {
    const at = i / STEPS;
    const next = stops.findIndex((stop) => stop.at > at);
    const [a, b] =
      stops.length === 0
        ? [null, null]
        : next === -1
          ? [stops[stops.length - 1], null]
          : next === 0
            ? [stops[0], null]
            : [stops[next - 1], stops[next]];
    for (let part = 0; part < width; part++) {
      const from = a?.value[part] ?? blank[part];
      const share = a && b ? (at - a.at) / Math.max(1e-9, b.at - a.at) : 0;
      out[i * width + part] = b ? from + (b.value[part] - from) * share : from;
    }
  }
  return out;
}

type Share = (i: number) => number;

/** The share, 0–1, that decides a colour or a size. */
function shareBy(by: Schemas["Appearance"]["colour_by"], particles: ParticlesOfFrame, seed: number): Share {
  if (by === "life") return (i) => Math.max(0, particles.motions[4 * i + 3] / 32767);
  if (by === "random") return (i) => ownRandom(seed, particles.ids[i]);
  if (by === "map") return (i) => particles.weights?.[i] ?? 1;
  if (by && typeof by === "object") {
    const most = by.speed.max_speed_m_s;
    return (i) => Math.min(1, speedOf(particles, i) / most);
  }
  return () => 0;
}

export function speedOf({ motions }: ParticlesOfFrame, i: number): number {
  return VELOCITY_STEP * Math.hypot(motions[4 * i], motions[4 * i + 1], motions[4 * i + 2]);
}

/** From blue over aqua and lime to red, for what is judged. */
const SCALE = ramp(
  [
    { at: 0, value: [0.06, 0.13, 0.5] },
    { at: 0.35, value: [0.05, 0.5, 0.5] },
    { at: 0.65, value: [0.6, 0.85, 0.15] },
    { at: 1, value: [0.9, 0.16, 0.05] },
  ],
  [1, 1, 1],
);

/** Colours of the drawn particles, three numbers each, and shares of their sizes. */
export function shown(
  particles: ParticlesOfFrame,
  of: Particles,
  element: number,
  judging: Judging,
): { colours: Float32Array; sizes: Float32Array } {
  const count = Math.ceil(particles.ids.length / judging.every);
  const colours = new Float32Array(3 * count);
  const sizes = new Float32Array(count);
  const appearance = of.appearance ?? {};
  const seed = of.seed ?? 0;
  const table = judging.by
    ? SCALE
    : ramp(
        (appearance.colours ?? []).map(({ at, colour }) => ({ at, value: colour })),
        [1, 1, 1],
      );
  const share: Share =
    judging.by === "age"
      ? shareBy("life", particles, seed)
      : judging.by === "speed"
        ? (i) => Math.min(1, speedOf(particles, i) / FAST)
        : judging.by === "element"
          ? () => (0.618034 * element) % 1
          : shareBy(appearance.colour_by, particles, seed);
  const sizeTable = ramp(
    (appearance.sizes ?? []).map(({ at, size }) => ({ at, value: [size] })),
    [1],
  );
  const sizeShare = shareBy(appearance.size_by, particles, seed);
  const { measured } = judging;
  const told = measured && coloursOf(valuesOf(particles.ids, measured), measured.top);
  for (let n = 0; n < count; n++) {
    const i = n * judging.every;
    const at = 3 * Math.round(STEPS * share(i));
    for (let part = 0; part < 3; part++) colours[3 * n + part] = told ? told[3 * i + part] : table[at + part];
    sizes[n] = particles.sizes[i] * sizeTable[Math.round(STEPS * sizeShare(i))];
  }
  return { colours, sizes };
}

/** Which of several copies a particle shows. */
export function picked(of: Particles, count: number, particles: ParticlesOfFrame, i: number): number {
  const form = of.appearance?.form;
  const pick = form && typeof form === "object" && "instance" in form ? form.instance.choice : "random";
  const at = (fraction: number) => Math.min(count - 1, Math.max(0, Math.floor(fraction * count)));
  if (pick === "order") return particles.ids[i] % count;
  if (pick === "size") {
    const { size_m = 0.02, size_variation = 0 } = of.start ?? {};
    const share = (particles.sizes[i] / size_m - (1 - size_variation)) / (2 * size_variation || 1);
    return at(size_variation > 0 ? share : 0);
  }
  return at(ownRandom(of.seed ?? 0, particles.ids[i]));
}
