// By what births on a surface go, as one choice.
import type { Schemas } from "../api/client";
import { quantities } from "./colouring";
import type { Option } from "./options";

type Source = Schemas["MapSource"];

/** The choice that a source is. */
export function birthMapOf(source: Source): string {
  if ("image" in source) return `image ${source.image.asset}`;
  if ("map" in source) return `map ${source.map.map}`;
  if ("quantity" in source) return `quantity ${source.quantity.quantity}`;
  return "vertices";
}

interface Known {
  images: string[];
  /** Whether the mesh came with colours. */
  colours: boolean;
  /** Maps of the solid that they are born on. */
  maps: string[];
  /** Whether quantities are measured on it. */
  measured: boolean;
}

/** All choices, none first. */
export function birthMapChoices({ images, colours, maps, measured }: Known): Option[] {
  const each = Object.entries(quantities).map(([name, of]): Option => [
    `quantity ${name}`,
    of.label.toLowerCase(),
  ]);
  return [
    ["", "none"],
    ...maps.map((name): Option => [`map ${name}`, `map ${name}`]),
    ...(measured ? each : []),
    ...images.map((name): Option => [`image ${name}`, `brightness of ${name}`]),
    ...(colours ? [["vertices", "colours of its vertices"] as Option] : []),
  ];
}

/** The source of a choice, a quantity with a range to begin with. */
export function birthMap(choice: string): Source {
  const [kind, name] = [choice.split(" ", 1)[0], choice.slice(choice.indexOf(" ") + 1)];
  if (kind === "image") return { image: { asset: name } };
  if (kind === "map") return { map: { map: name } };
  if (kind === "quantity") {
    const quantity = name as Schemas["SurfaceQuantity"];
    const { most, scale } = quantities[quantity];
    return { quantity: { quantity, from: (0.2 * most) / scale, to: (0.6 * most) / scale } };
  }
  return { vertices: {} };
}
