// Parts of a cloth or a soft body that a pin can hold, as choices of a list.
import type { Element, Schemas } from "../api/client";
import { SIDE_NAMES } from "./maps";

type Part = Schemas["PinnedPart"];

/** The choice that a part is. */
export function partNamed(part: Part): string {
  if ("side" in part) return `side ${part.side}`;
  if ("corners" in part) return `corners ${part.corners}`;
  if ("region" in part) return `region ${part.region}`;
  if ("map" in part) return `map ${part.map}`;
  return Object.keys(part)[0];
}

/** The part of a choice; a place stays that of `before`. */
export function pinPart(choice: string, before?: Part): Part {
  const space = choice.indexOf(" ");
  const [kind, of] = space < 0 ? [choice, ""] : [choice.slice(0, space), choice.slice(space + 1)];
  switch (kind) {
    case "region":
      return { region: Number(of) };
    case "map":
      return { map: of };
    case "side":
      return { side: of as Schemas["Side"] };
    case "corners":
      return { corners: of as Schemas["Side"] };
    case "centre":
      return { centre: {} };
    case "point":
      return before && "point" in before ? before : { point: { position_m: [0, 0, 0], radius_m: 0.05 } };
    default:
      return { whole: {} };
  }
}

/** What a pin can hold. */
export function partOptions(regions: Element[], maps: Schemas["Map"][]): [string, string][] {
  return [
    ...SIDE_NAMES.map(([side, word]): [string, string] => [`side ${side}`, `the ${word} side`]),
    ...SIDE_NAMES.map(([side, word]): [string, string] => [`corners ${side}`, `corners of the ${word} side`]),
    ...regions.map((e): [string, string] => [`region ${e.id}`, `what is in ${e.name}`]),
    ...maps.map((map): [string, string] => [`map ${map.name}`, `where map ${map.name} is over ½`]),
    ["whole", "all of it"],
    ["centre", "its centre of mass"],
    ["point", "around a place"],
  ];
}
