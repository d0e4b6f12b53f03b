// The values on an element's Sheet, by the names of their fields.
import type { Element } from "../api/client";
import { declared, declaredPaths } from "./declared";

export type Tab = "shape" | "body" | "events" | "look" | "placement";

export interface Parameter {
  name: string;
  tab: Tab;
}

/** The tabs of values by the start of their paths; the first that fits counts, and `body` if none does. */
const TABS: [RegExp, Tab][] = [
  [/^(placement|aim|attached)\b/, "placement"],
  [/^kind\.solid\.(shape|copies|animation|from_particles)\b/, "shape"],
  [/^kind\.particles\.(source|emission|start|seed)\b/, "shape"],
  [/^kind\.particles\.events\b/, "events"],
  [/^kind\.\w+\.(look|appearance)\b/, "look"],
];

/** Choices among kinds, which are no declared values, by the element's kind. */
const CHOICES: Record<string, [Tab, string[]]> = {
  solid: ["body", ["Moves", "Collides as"]],
  particles: ["shape", ["Born on", "Likely by", "Born", "Direction"]],
  camera: ["body", ["Aimed at"]],
  region: ["body", ["Volume"]],
};

/** Whether an element has what a path leads to, or may get it: all but the last name lies in it. */
function leadsInto(element: Element, path: string): boolean {
  let at: unknown = element;
  for (const part of path.split(".").slice(0, -1)) {
    if (typeof at !== "object" || at === null || !(part in at)) return false;
    at = (at as Record<string, unknown>)[part];
  }
  return typeof at === "object" && at !== null;
}

/** The values and choices of an element, in the order of their declarations. */
export function parametersOf(element: Element): Parameter[] {
  const found = new Map<string, Parameter>();
  for (const path of declaredPaths) {
    // The sky stands nowhere.
    const nowhere = "sky" in element.kind && path.startsWith("placement.");
    if (path === "hidden" || nowhere || !leadsInto(element, path)) continue;
    const name = declared(path)!.label;
    const tab = TABS.find(([start]) => start.test(path))?.[1] ?? "body";
    found.set(`${tab} ${name}`, { name, tab });
  }
  const [tab, names] = CHOICES[Object.keys(element.kind)[0]] ?? ["body", []];
  return [...found.values(), ...names.map((name) => ({ name, tab }))];
}
