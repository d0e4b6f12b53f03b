// Parts of a cloth or a soft body that a pin can hold, as choices of a list.
import type { Element, Schemas, Solid } from "../api/client";
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
export function partOptions(
  regions: Element[],
  maps: Schemas["Map"][],
  groups: string[] = [],
): [string, string][] {
  return [
    ...SIDE_NAMES.map(([side, word]): [string, string] => [`side ${side}`, `the ${word} side`]),
    ...SIDE_NAMES.map(([side, word]): [string, string] => [`corners ${side}`, `corners of the ${word} side`]),
    ...regions.map((e): [string, string] => [`region ${e.id}`, `what is in ${e.name}`]),
    ...maps.map((map): [string, string] => [`map ${map.name}`, `where map ${map.name} is over ½`]),
    ...groups.map((name): [string, string] => [`group ${name}`, `group ${name} of its faces`]),
    ["whole", "all of it"],
    ["centre", "its centre of mass"],
    ["point", "around a place"],
  ];
}

/** A solid with the map of a group of faces, and the map's name. */
export function withGroupMap(solid: Solid, group: string): [Solid, string] {
  const maps = solid.maps ?? [];
  const is = ({ layers: [layer, ...others] }: Schemas["Map"]) =>
    others.length === 0 &&
    layer !== undefined &&
    "group" in layer.source &&
    layer.source.group.group === group;
  const known = maps.find(is);
  if (known) return [solid, known.name];
  const taken = new Set(maps.map((map) => map.name));
  let name = group;
  for (let i = 2; taken.has(name); i++) name = `${group} ${i}`;
  const layer: Schemas["MapLayer"] = { source: { group: { group } }, operation: "add", amount: 1 };
  return [{ ...solid, maps: [...maps, { name, layers: [layer], blur_m: 0 }] }, name];
}
