// First values of liquids.
import type { Particles, Schemas } from "../api/client";

/** How liquid comes: in words. */
export const LIQUID_SCHEDULES = [
  ["fill", "as much as fills it"],
  ["flow", "a volume a second"],
  ["jet", "at the speed at birth"],
] as const;

/** The state at birth of a liquid that is at rest. */
export const AT_REST = {
  speed_m_s: 0,
  speed_variation: 0,
  spread_rad: 0,
  lifespan_s: null,
  lifespan_variation: 0,
};

/** Water as glass. */
export const WATER_LOOK = {
  albedo: [0.9, 0.97, 1],
  roughness: 0.02,
  transmission: 1,
  refractive_index: 1.33,
};

/** A liquid out of a source. */
export const liquidOf = (
  source: unknown,
  schedule: unknown,
  spacing_m: number,
  start: object = {},
): Partial<Particles> =>
  ({
    liquid: { spacing_m },
    source,
    emission: { schedule },
    start: { ...AT_REST, ...start },
    body: { drag: 0 },
    look: WATER_LOOK,
  }) as Partial<Particles>;

/** Particles as a liquid whose spacing is their size. */
export function asLiquid(particles: Particles): Particles {
  const start: Partial<Schemas["Start"]> = particles.start ?? {};
  return {
    ...particles,
    liquid: { spacing_m: start.size_m ?? 0.02 },
    start: { ...start, speed_variation: 0, spread_rad: 0, lifespan_s: null },
    body: { ...particles.body, drag: 0, max_speed_m_s: null },
    steering: {},
  } as Particles;
}

/** A liquid as grains, which come by a number. */
export function asGrains(particles: Particles): Particles {
  const schedule = particles.emission?.schedule;
  const ofLiquid = schedule && LIQUID_SCHEDULES.some(([way]) => way in schedule);
  const emission = ofLiquid
    ? { ...particles.emission, schedule: { rate: { per_s: 200 } } }
    : particles.emission;
  return { ...particles, liquid: null, emission } as Particles;
}
