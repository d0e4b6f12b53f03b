// Which value a field is for.
import type { Element } from "../api/client";

/** A value of some elements, the first one shown; of the shot itself where there is none. */
export interface Target {
  element: Element | null;
  ids: number[];
  /** Path below the element, such as `kind.solid.body.friction` or `placement.position_m[1]`. */
  path: string;
}
