// Layers of a look: what their weights come from, in words, and how a new one begins.
import { kindOf, type Schemas } from "../api/client";
import { quantities } from "./colouring";

type Layer = Schemas["LookLayer"];
type Weight = NonNullable<Layer["by"]>;

/** What a weight can come from, as one choice: quantities and maps each by name; particles have no mesh that could tell. */
export function weightChoices(maps: string[], deforms: boolean, solid = true): [string, string][] {
  if (!solid)
    return [
      ["viewing_angle", "viewing angle"],
      ["birth_map", "map where born"],
    ];
  const measured = Object.entries(quantities).map(([name, of]): [string, string] => [
    `quantity ${name}`,
    of.label.toLowerCase(),
  ]);
  return [
    ["viewing_angle", "viewing angle"],
    ["crevices", "crevices"],
    ["noise", "noise"],
    ...(deforms ? measured : []),
    ...maps.map((name): [string, string] => [`map ${name}`, `map ${name}`]),
  ];
}

/** The choice that a weight is. */
export function choiceOf(by: Weight): string {
  if ("quantity" in by) return `quantity ${by.quantity.quantity}`;
  if ("map" in by) return `map ${by.map.map}`;
  return kindOf(by);
}

/** The weight of a choice, with the range over which its layer fades in at first. */
export function chosenWeight(choice: string): Pick<Layer, "by" | "from" | "to"> {
  const [kind, name] = [choice.split(" ", 1)[0], choice.slice(choice.indexOf(" ") + 1)];
  if (kind === "quantity") {
    const quantity = name as Schemas["SurfaceQuantity"];
    const { most, scale } = quantities[quantity];
    return { by: { quantity: { quantity } }, from: (0.2 * most) / scale, to: (0.6 * most) / scale };
  }
  if (kind === "map") return { by: { map: { map: name } }, from: 0, to: 1 };
  if (kind === "birth_map") return { by: { birth_map: {} }, from: 0, to: 1 };
  if (kind === "crevices") return { by: { crevices: { radius_m: 0.05 } }, from: 0.2, to: 0.8 };
  if (kind === "noise") return { by: { noise: { size_m: 0.1, seed: 1 } }, from: 0.4, to: 0.6 };
  return { by: { viewing_angle: {} }, from: 0.3, to: 0.9 };
}

/** The unit of the range of a weight, and its factor from the file's. */
export function rangeUnit(by: Weight): { unit: string; scale: number } {
  if (!("quantity" in by)) return { unit: "", scale: 1 };
  const { unit, scale } = quantities[by.quantity.quantity];
  return { unit, scale };
}

/** A layer over a look, of another colour. */
export function newLayer(look: Partial<Schemas["Look"]>): Layer {
  const { roughness = 0.5, metalness = 0, transmission = 0, emission = [0, 0, 0] } = look;
  const albedo = (look.albedo ?? [0.6, 0.6, 0.6]).map((v) => Math.round(1000 * 0.35 * v) / 1000);
  return {
    ...chosenWeight("viewing_angle"),
    amount: 1,
    albedo: albedo as [number, number, number],
    roughness,
    metalness,
    transmission,
    emission,
  };
}
