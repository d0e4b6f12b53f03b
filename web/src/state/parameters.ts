// The values on an element's Sheet, by the names of their fields.
import type { Element } from "../api/client";

export type Tab = "shape" | "body" | "look" | "motion";

export interface Parameter {
  name: string;
  tab: Tab;
}

const on = (tab: Tab, ...names: string[]): Parameter[] => names.map((name) => ({ name, tab }));

const MOTION = on("motion", "Place", "Turn");
const PARAMETERS: Record<string, Parameter[]> = {
  solid: [
    ...on("shape", "Number", "Spacing", "Random shift", "Random turn", "Seed"),
    ...on("body", "Moves", "Collides as", "Density", "Mass", "Friction", "Bounce", "Margin"),
    ...on("body", "Velocity", "Spin"),
    ...on("look", "Albedo", "Image", "Variation", "Roughness", "Metalness"),
    ...on("look", "Transmission", "Refraction", "Emission"),
  ],
  camera: on("body", "Focal length", "Sensor width", "F-stop", "Focus", "Exposure", "Aimed at"),
  sun: on("body", "Irradiance", "Colour", "Angular size"),
  area_light: on("body", "Size", "Radiance", "Colour"),
  sky: on("body", "Strength", "Zenith", "Horizon", "Ground"),
  gravity: on("body", "Acceleration"),
};

/** The values an element has, in the order of its Sheet. */
export function parametersOf(element: Element): Parameter[] {
  const kind = Object.keys(element.is)[0];
  return [...PARAMETERS[kind], ...(kind === "sky" || kind === "gravity" ? [] : MOTION)];
}
