// First values of liquids.
import type { Particles, Schemas } from "../api/client";
import { releasedFrom } from "./sources";

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
    contact: { push_deformables: true },
    look: WATER_LOOK,
  }) as Partial<Particles>;

/** What a carried particle may be: in words. */
export const PHASES: [Schemas["Phase"], string][] = [
  ["spray", "Spray in the air"],
  ["foam", "Foam at the surface"],
  ["bubble", "Bubbles within"],
];

/** What a liquid releases and carries. */
export const sprayOf = (liquid: number): Partial<Particles> =>
  ({
    source: releasedFrom(liquid),
    carried: { liquid },
    emission: { schedule: { released: {} } },
    start: {
      ...AT_REST,
      inherited_velocity: 1,
      lifespan_s: 3,
      lifespan_variation: 0.5,
      size_m: 0.004,
      size_variation: 0.5,
    },
    contact: { restitution: 0, friction: 0.5, push: false },
    look: { albedo: [0.95, 0.96, 0.96], roughness: 0.6 },
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

/** What can differ from place to place: in words. */
export const LIQUID_QUANTITIES: [Schemas["LiquidQuantity"], string][] = [
  ["stiffness", "stiffness"],
  ["viscosity", "viscosity"],
  ["yield_stress", "yield stress"],
  ["relaxation_time", "relaxation time"],
  ["density", "density"],
  ["wall_friction", "sticking to solids"],
  ["surface_tension", "surface tension"],
  ["wetting_angle", "wetting angle"],
];

const BIRTH_MAP = "birth map";

/** What gives particles a weight: the regions, and the map of the emission if it has one. */
export const weightOptions = (regions: [string, string][], mapped: boolean): [string, string][] =>
  mapped ? [...regions, [BIRTH_MAP, "map of its source"]] : regions;

export const weightName = (by: Schemas["LiquidWeight"]): string =>
  "region" in by ? String(by.region.region) : BIRTH_MAP;

export const weightNamed = (name: string): Schemas["LiquidWeight"] =>
  name === BIRTH_MAP ? { birth_map: {} } : { region: { region: Number(name) } };

/** A factor as it begins: a hundred times softer where the weight is 1. */
export const firstFactor = (weight: string): Schemas["ScaledLiquid"] => ({
  quantity: "stiffness",
  by: weightNamed(weight),
  at_0: 1,
  at_1: 0.01,
});
