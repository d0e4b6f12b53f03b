// Groups of elements, by name.
import type { Element } from "../api/client";

/** The groups that elements belong to, in order. */
export function groupsOf(elements: Element[]): string[] {
  return [...new Set(elements.flatMap((element) => element.groups ?? []))].sort((a, b) => a.localeCompare(b));
}

/** The groups named in a text, parted by commas. */
export function groupsIn(text: string): string[] {
  return [...new Set(text.split(",").map((name) => name.trim()))].filter(Boolean);
}
