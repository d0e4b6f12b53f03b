// What can be added to a shot, at which place and with which values it begins.
import type { Element, Schemas, Vector } from "../api/client";
import { selection } from "./selection.svelte";
import { liquidOf, sprayOf } from "./liquid";
import { shot } from "./shot.svelte";

const solid = (
  shape: Schemas["Shape"],
  moves: Schemas["Moves"] = "free",
  copies?: Partial<Schemas["Copies"]>,
): Element["kind"] => ({ solid: { shape, body: { moves }, look: {}, copies } }) as Element["kind"];

/** First values of a sky. */
export const SKY = {
  gradient: { zenith: [0.22, 0.32, 0.48], horizon: [0.62, 0.66, 0.7], ground: [0.16, 0.15, 0.14] },
} as Schemas["SkySource"];

/** First values of a grid of copies. */
export const GRID = {
  count: [3, 3, 3],
  spacing_m: [0.6, 0.6, 0.6],
  position_jitter_m: 0,
  orientation_jitter_rad: 0,
  seed: 1,
};

const force = (kind: unknown) => ({ force: { kind } }) as Element["kind"];
const particles = (particles: object) => ({ particles }) as Element["kind"];
const region = (volume: unknown) => ({ region: { volume, edge_m: 0.3 } }) as Element["kind"];
export const curve = (of: unknown) => ({ curve: of }) as Element["kind"];

export interface Addable {
  name: string;
  group: "Solid" | "Particle" | "Liquid" | "Camera" | "Light" | "Force" | "Region" | "Curve";
  make: () => Element["kind"];
  place: Vector;
  turn?: Vector;
  /** Why it cannot be added, if so. */
  needs?: () => string | null;
}

export const addables: Addable[] = [
  {
    name: "Box",
    group: "Solid",
    make: () => solid({ box: { size_m: [0.5, 0.5, 0.5], edge_m: 0.01 } }),
    place: [0, 1, 0],
  },
  { name: "Sphere", group: "Solid", make: () => solid({ sphere: { radius_m: 0.25 } }), place: [0, 1, 0] },
  {
    name: "Capsule",
    group: "Solid",
    make: () => solid({ capsule: { radius_m: 0.15, length_m: 0.4 } }),
    place: [0, 1, 0],
  },
  {
    name: "Cylinder",
    group: "Solid",
    make: () => solid({ cylinder: { radius_m: 0.25, height_m: 0.5 } }),
    place: [0, 1, 0],
  },
  {
    name: "Cone",
    group: "Solid",
    make: () => solid({ cone: { radius_m: 0.25, height_m: 0.5 } }),
    place: [0, 1, 0],
  },
  {
    name: "Torus",
    group: "Solid",
    make: () => solid({ torus: { major_radius_m: 0.3, minor_radius_m: 0.08 } }),
    place: [0, 1, 0],
  },
  {
    name: "Plane",
    group: "Solid",
    make: () => solid({ plane: { size_m: [10, 10] } }, "still"),
    place: [0, 0, 0],
  },
  {
    name: "Grid of boxes",
    group: "Solid",
    make: () => solid({ box: { size_m: [0.5, 0.5, 0.5], edge_m: 0.01 } }, "free", GRID as Schemas["Copies"]),
    place: [0, 0.3, 0],
  },
  { name: "Particles", group: "Particle", make: () => particles({}), place: [0, 0.5, 0] },
  {
    name: "Particles from a plane",
    group: "Particle",
    make: () =>
      particles({
        source: { shape: { shape: { plane: { size_m: [3, 3] } }, domain: "surface" } },
        start: { speed_m_s: 0, spread_rad: 0, lifespan_s: 4 },
      }),
    place: [0, 2.5, 0],
  },
  {
    name: "Particles from the selection",
    group: "Particle",
    make: () => particles({ source: sourceOf(selected()), start: { direction: "normal" } }),
    place: [0, 0, 0],
    needs: () => (selected() ? null : "Select the solid or curve first that they are to be born on."),
  },
  {
    name: "Particles of others",
    group: "Particle",
    make: () => particles({ emission: { schedule: { never: {} } } }),
    place: [0, 0.5, 0],
  },
  {
    name: "Block of liquid",
    group: "Liquid",
    make: () =>
      particles(
        liquidOf(
          { shape: { shape: { box: { size_m: [0.5, 0.5, 0.5], edge_m: 0 } }, domain: "surface" } },
          { fill: {} },
          0.02,
        ),
      ),
    place: [0, 0.5, 0],
  },
  {
    name: "Pool of liquid",
    group: "Liquid",
    make: () => particles(liquidOf({ pool: {} }, { fill: {} }, 0.02)),
    place: [0, 0.3, 0],
  },
  {
    name: "Jet of liquid",
    group: "Liquid",
    make: () =>
      particles(
        liquidOf(
          { shape: { shape: { plane: { size_m: [0.1, 0.1] } }, domain: "surface" } },
          { jet: {} },
          0.02,
          {
            speed_m_s: 1,
          },
        ),
      ),
    place: [0, 1, 0],
    turn: [Math.PI, 0, 0],
  },
  {
    name: "Liquid in the selection",
    group: "Liquid",
    make: () => particles(liquidOf(sourceOf(selected()), { fill: {} }, 0.02)),
    place: [0, 0, 0],
    needs: () => (solidChosen() ? null : "Select the closed solid first that it is to fill."),
  },
  {
    name: "Spray of a liquid",
    group: "Liquid",
    make: () => particles(sprayOf(liquidChosen()?.id ?? 0)),
    place: [0, 0, 0],
    needs: () => (liquidChosen() ? null : "Add a liquid first that is to release it."),
  },
  {
    name: "Camera",
    group: "Camera",
    make: () => ({ camera: {} }) as Element["kind"],
    place: [3, 1.8, 5],
    turn: [-0.18, 0.54, 0],
  },
  {
    name: "Sun",
    group: "Light",
    make: () => ({ sun: { irradiance: 3, colour: [1, 0.93, 0.82], angle_rad: 0.02 } }),
    place: [2, 5, 2],
    turn: [0.5, 0, -0.6],
  },
  {
    name: "Area light",
    group: "Light",
    make: () => ({ area_light: { size_m: [1, 1], radiance: 10, colour: [1, 1, 1] } }),
    place: [0, 3, 0],
  },
  {
    name: "Sky",
    group: "Light",
    make: () => ({ sky: { strength: 1, source: SKY } }),
    place: [0, 0, 0],
  },
  {
    name: "Gravity",
    group: "Force",
    make: () => force({ gravity: { acceleration: [0, -9.81, 0] } }),
    place: [0, 0, 0],
  },
  { name: "Pull", group: "Force", make: () => force({ pull: { force_n: 10 } }), place: [0, 1.5, 0] },
  // A wind blows along its −y axis; a quarter turn about z makes that +x.
  {
    name: "Wind",
    group: "Force",
    make: () => force({ wind: {} }),
    place: [-2, 1, 0],
    turn: [0, 0, Math.PI / 2],
  },
  { name: "Turbulence", group: "Force", make: () => force({ turbulence: {} }), place: [0, 1, 0] },
  { name: "Vortex", group: "Force", make: () => force({ vortex: {} }), place: [0, 0, 0] },
  { name: "Attractor", group: "Force", make: () => force({ attract: {} }), place: [0, 1, 0] },
  {
    name: "Drag",
    group: "Force",
    make: () => force({ drag: { linear_n_s_m: 0, density_kg_m3: 1.2 } }),
    place: [0, 1, 0],
  },
  {
    name: "Stream along a curve",
    group: "Force",
    make: () =>
      force({ along: { curve: curveToFollow()?.id ?? 0, speed_m_s: 3, inflow_m_s: 1, range_m: 1 } }),
    place: [0, 0, 0],
    needs: () => (curveToFollow() ? null : "A stream needs a curve to follow. Add a line or circle first."),
  },
  {
    name: "Box region",
    group: "Region",
    make: () => region({ box: { size_m: [2, 2, 2] } }),
    place: [0, 1, 0],
  },
  {
    name: "Sphere region",
    group: "Region",
    make: () => region({ sphere: { radius_m: 1 } }),
    place: [0, 1, 0],
  },
  {
    name: "Cylinder region",
    group: "Region",
    make: () => region({ cylinder: { radius_m: 1, height_m: 2 } }),
    place: [0, 1, 0],
  },
  { name: "Half-space", group: "Region", make: () => region({ half_space: {} }), place: [0, 1, 0] },
  {
    name: "Noise region",
    group: "Region",
    make: () => region({ noise: { size_m: 1, threshold: 0.5, softness: 0.2 } }),
    place: [0, 1, 0],
  },
  {
    name: "Line",
    group: "Curve",
    make: () =>
      curve({
        points: {
          points_m: [
            [-1, 0, 0],
            [0, 0.6, 0],
            [1, 0, 0],
          ],
          smooth: true,
        },
      }),
    place: [0, 1, 0],
  },
  { name: "Circle", group: "Curve", make: () => curve({ circle: { radius_m: 1 } }), place: [0, 1, 0] },
];

/** Whether a solid is selected. */
const solidChosen = () => "solid" in (selected()?.kind ?? {});

/** The selected liquid, or the first of the shot. */
function liquidChosen(): Element | undefined {
  const isLiquid = (e: Element | undefined) =>
    e !== undefined && "particles" in e.kind && e.kind.particles.liquid != null;
  return selection.ids.map((id) => shot.element(id)).find(isLiquid) ?? shot.elements.find(isLiquid);
}

/** The selected solid or curve. */
function selected(): Element | undefined {
  return selection.ids
    .map((id) => shot.element(id))
    .find((element) => element && ("solid" in element.kind || "curve" in element.kind));
}

function sourceOf(element: Element | undefined): Schemas["Source"] {
  if (!element) return { point: {} };
  if ("curve" in element.kind) return { curve: { curve: element.id } };
  return { solid: { solid: element.id, domain: "surface" } };
}

/** The selected curve, or else the first. */
function curveToFollow(): Element | undefined {
  const curves = shot.elements.filter((element) => "curve" in element.kind);
  return curves.find((element) => selection.has(element.id)) ?? curves[0];
}
