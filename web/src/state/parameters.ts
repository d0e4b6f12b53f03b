// The values on an element's Sheet, by the names of their fields.
import { kindOf, type Element } from "../api/client";
import { FORCE_FIELDS, VOLUME_FIELDS, type Field } from "./forces";

export type Tab = "shape" | "body" | "events" | "look" | "placement";

export interface Parameter {
  name: string;
  tab: Tab;
}

const on = (tab: Tab, ...names: string[]): Parameter[] => names.map((name) => ({ name, tab }));

const PLACEMENT = on("placement", "Place", "Turn");
const PARAMETERS: Record<string, Parameter[]> = {
  solid: [
    ...on("shape", "Number", "Spacing", "Random shift", "Random turn", "Seed"),
    ...on("body", "Moves", "Collides as", "Density", "Mass", "Friction", "Bounce", "Margin", "Breaks at"),
    ...on("body", "Velocity", "Spin"),
    ...on("look", "Albedo", "Albedo image", "Variation", "Roughness", "Metalness"),
    ...on("look", "Transmission", "Refraction", "Emission"),
  ],
  particles: [
    ...on("shape", "Born on", "Likely by", "Born", "Rate", "Number", "Preroll", "Seed", "Direction"),
    ...on("shape", "Spread", "Speed", "Lifespan", "Size", "Spin"),
    ...on("body", "Density", "Mass", "Drag", "Fastest", "Cruise at", "Wander", "Look ahead", "Keep apart"),
    ...on("body", "Bounce", "Friction"),
    ...on("look", "Form", "Albedo", "Roughness", "Emission"),
  ],
  camera: on("body", "Focal length", "Sensor width", "F-stop", "Focus", "Exposure", "Aimed at"),
  sun: on("body", "Irradiance", "Colour", "Angular size"),
  area_light: on("body", "Size x", "Size z", "Radiance", "Colour"),
  sky: on("body", "Strength", "Zenith", "Horizon", "Ground"),
};

const named = (first: string[], fields: Field[] = []) =>
  on("body", ...first, ...fields.map((field) => field.label));

/** The values an element has, in the order of its Sheet. */
export function parametersOf(element: Element): Parameter[] {
  const kind = Object.keys(element.kind)[0];
  const own =
    "force" in element.kind
      ? named(["On", "Strength"], FORCE_FIELDS[kindOf(element.kind.force.kind)])
      : "region" in element.kind
        ? named(["Volume", "Width"], VOLUME_FIELDS[kindOf(element.kind.region.volume)])
        : (PARAMETERS[kind] ?? []);
  return [...own, ...(kind === "sky" ? [] : PLACEMENT)];
}
