// Which value a field is for.
import type { Element } from "../api/client";
import { shot } from "./shot.svelte";

/** A value of some elements, the first one shown; of the shot itself where there is none. */
export interface Target {
  element: Element | null;
  ids: number[];
  /** Path below the element, such as `kind.solid.body.friction` or `placement.position_m[1]`. */
  path: string;
}

/** A path below a document as a JSON pointer. */
export function pointer(path: string): string {
  return `/${path.replaceAll(/\[(\d+)\]/g, "/$1").replaceAll(".", "/")}`;
}

/**
 * Whether an element has the value that another one has at a path: the same kind all the way down.
 * Of a choice, such as density or mass, it must have chosen the same.
 */
export function has(element: Element, like: Element, path: string): boolean {
  const parts = pointer(path).split("/").slice(1);
  let [own, other]: unknown[] = [element, like];
  for (const [i, part] of parts.entries()) {
    if (typeof own !== "object" || own === null || typeof other !== "object" || other === null) return false;
    const choice = Object.keys(other).length === 1 && part in other;
    if ((choice || i < parts.length - 1) && !(part in own)) return false;
    own = (own as Record<string, unknown>)[part];
    other = (other as Record<string, unknown>)[part];
  }
  return true;
}

/** The elements that a target means: of those selected with its own, the ones that have the value. */
export function meant({ element, ids, path }: Target): Element[] {
  if (!element) return [];
  const others = ids.filter((id) => id !== element.id).map((id) => shot.element(id));
  return [
    element,
    ...others.filter((other) => other !== undefined && has(other, element, path)),
  ] as Element[];
}
