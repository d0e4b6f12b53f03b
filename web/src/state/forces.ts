// The fields of forces and regions, as their Sheets show them.
import type { ChoiceOf, NameOf, Schemas } from "../api/client";

export interface Field<Part = string> {
  part: Part;
  label: string;
  unit?: string;
  step?: number;
  slide?: [number, number];
  vector?: boolean;
  /** The same at every frame. */
  fixed?: boolean;
  whole?: boolean;
  /** Shown where there is no value. */
  blank?: string;
}

/** The fields of each kind, by the names that the shot's description has. */
type Fields<T> = { [Kind in NameOf<T>]?: Field<keyof ChoiceOf<T, Kind>>[] };

export const FORCE_NAMES: Record<NameOf<Schemas["ForceKind"]>, string> = {
  gravity: "Gravity",
  pull: "Pull",
  wind: "Wind",
  turbulence: "Turbulence",
  vortex: "Vortex",
  attract: "Attractor",
  drag: "Drag",
  along: "Stream along a curve",
};

export const FORCE_FIELDS: Required<Fields<Schemas["ForceKind"]>> = {
  gravity: [{ part: "acceleration", label: "Acceleration", unit: "m/s²", vector: true }],
  pull: [{ part: "force_n", label: "Force", unit: "N", step: 1 }],
  wind: [
    { part: "speed_m_s", label: "Speed", unit: "m/s", step: 0.5, slide: [0, 40] },
    { part: "gust", label: "Gusts", step: 0.05, slide: [0, 1] },
    { part: "gust_s", label: "Gust length", unit: "s" },
    { part: "eddy", label: "Eddies", step: 0.05, slide: [0, 2] },
    { part: "eddy_m", label: "Eddy size", unit: "m" },
    { part: "seed", label: "Seed", step: 1, whole: true },
  ],
  turbulence: [
    { part: "speed_m_s", label: "Speed", unit: "m/s", step: 0.1, slide: [0, 20] },
    { part: "size_m", label: "Eddy size", unit: "m" },
    { part: "octaves", label: "Octaves", step: 1, whole: true },
    { part: "drift_m_s", label: "Drift", unit: "m/s", vector: true },
    { part: "change_s", label: "Changes in", unit: "s" },
    { part: "loop_s", label: "Repeats after", unit: "s", fixed: true, blank: "never" },
    { part: "seed", label: "Seed", step: 1, whole: true },
  ],
  vortex: [
    { part: "speed_m_s", label: "Speed", unit: "m/s", step: 0.1, slide: [-20, 20] },
    { part: "core_m", label: "Core radius", unit: "m", step: 0.05 },
    { part: "inflow_m_s", label: "Inflow", unit: "m/s", step: 0.1 },
    { part: "rise_m_s", label: "Rise", unit: "m/s", step: 0.1 },
  ],
  attract: [
    { part: "acceleration", label: "Pull at 1 m", unit: "m/s²", step: 0.5, slide: [-40, 40] },
    { part: "power", label: "Power of distance", step: 0.5 },
    { part: "range_m", label: "Range", unit: "m", blank: "endless" },
    { part: "near_m", label: "Soft within", unit: "m", step: 0.01 },
  ],
  drag: [
    { part: "linear_n_s_m", label: "Linear", unit: "N s/m", step: 0.1 },
    { part: "density_kg_m3", label: "Medium density", unit: "kg/m³", step: 0.1 },
  ],
  along: [
    { part: "speed_m_s", label: "Speed", unit: "m/s", step: 0.1 },
    { part: "inflow_m_s", label: "Inflow", unit: "m/s", step: 0.1 },
    { part: "range_m", label: "Range", unit: "m", step: 0.1 },
  ],
};

export const VOLUME_NAMES: Record<NameOf<Schemas["Volume"]>, string> = {
  box: "Box",
  sphere: "Sphere",
  half_space: "Half-space",
  cylinder: "Cylinder",
  inside: "Inside a solid",
  noise: "Noise",
  combined: "Combined",
};

export const VOLUME_FIELDS: Fields<Schemas["Volume"]> = {
  box: [{ part: "size_m", label: "Size", unit: "m", vector: true }],
  sphere: [{ part: "radius_m", label: "Radius", unit: "m", slide: [0, 10] }],
  cylinder: [
    { part: "radius_m", label: "Radius", unit: "m", slide: [0, 10] },
    { part: "height_m", label: "Height", unit: "m", slide: [0, 10] },
  ],
  noise: [
    { part: "size_m", label: "Blob size", unit: "m", step: 0.05 },
    { part: "threshold", label: "Threshold", step: 0.01, slide: [0, 1] },
    { part: "softness", label: "Softness", step: 0.01, slide: [0, 1] },
    { part: "drift_m_s", label: "Drift", unit: "m/s", vector: true },
    { part: "seed", label: "Seed", step: 1, whole: true },
  ],
};
