// What the shot's description declares of the values that can be set, by their paths.
import generated from "../api/parameters.gen.json";

export interface Declaration {
  /** Name on the Sheet. */
  label: string;
  /** Name within a sentence. */
  words: string;
  unit?: string;
  /** Factor from the file's unit to the one shown. */
  scale?: number;
  /** Ends of the range, in the file's unit. */
  low: number;
  high: number;
  /** In the unit shown. */
  step: number;
  slide?: number[];
  /** Shown where there is no value; without it there always is one. */
  blank?: string;
  /** Whether it may change with time. */
  keyed: boolean;
  colour?: boolean;
  parts?: string[];
  kind: "switch" | "whole" | "number" | "vector" | "whole_vector";
  acts: "simulation" | "picture";
  /** The value where the file leaves it out. */
  default?: number | number[] | boolean;
}

const declarations = generated.declarations as Declaration[];
const paths = generated.paths as Record<string, number>;

/** The declaration of a value, such as `kind.solid.body.friction` or `placement.position_m[1]`. */
export function declared(path: string): Declaration | undefined {
  const whole = path.replace(/\[\d+\]$/, "").replaceAll(/\.\d+(?=\.|$)/g, ".*");
  const at = paths[whole];
  return at === undefined ? undefined : declarations[at];
}

/** All declared paths, in the order of the declarations; `*` stands for a number in a list. */
export const declaredPaths = Object.keys(paths);

/** The paths of the values that lie just below a path, in the order of the declarations. */
export function declaredBelow(path: string): string[] {
  const start = `${path}.`;
  return declaredPaths.filter((of) => of.startsWith(start) && !of.slice(start.length).includes("."));
}
