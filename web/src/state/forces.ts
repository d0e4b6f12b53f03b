// The kinds of forces and regions by name.
import type { NameOf, Schemas } from "../api/client";

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

export const VOLUME_NAMES: Record<NameOf<Schemas["Volume"]>, string> = {
  box: "Box",
  sphere: "Sphere",
  half_space: "Half-space",
  cylinder: "Cylinder",
  inside: "Inside a solid",
  gate: "What a camera sees",
  noise: "Noise",
  combined: "Combined",
};
