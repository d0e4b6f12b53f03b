// Dropped images, until each has a use.
import type { Element, Operation, Schemas, Shot } from "../api/client";
import { mappable } from "./sources";
import { desk } from "./desk.svelte";
import { shot, freeName } from "./shot.svelte";
import { selection } from "./selection.svelte";

export interface DroppedImage {
  /** Name among the shot's assets. */
  name: string;
  /** Width over height. */
  aspect: number;
}

/** Distance of a new backdrop from the camera, m. */
const BACKDROP_M = 20;

class Images {
  /** Images still to be asked about, the present one first. */
  waiting = $state.raw<DroppedImage[]>([]);

  get asked(): DroppedImage | null {
    return this.waiting[0] ?? null;
  }

  ask(image: DroppedImage) {
    this.waiting = [...this.waiting, image];
  }

  answered() {
    this.waiting = this.waiting.slice(1);
  }

  /** The solids that a look's image would be laid on. */
  get solids(): number[] {
    return selection.ids.filter((id) => "solid" in (shot.element(id)?.kind ?? {}));
  }

  /** The particles for which an image can be a map of births: the selected ones, else all with UVs. */
  get particles(): Element[] {
    const all = shot.elements.filter(mappable);
    const chosen = all.filter((element) => selection.has(element.id));
    return chosen.length > 0 ? chosen : all;
  }

  onLook(image: DroppedImage) {
    return shot.set("Image laid on", this.solids, "/kind/solid/look/image", image.name);
  }

  asSky(image: DroppedImage) {
    const source = { image: { asset: image.name } } as Schemas["SkySource"];
    const sky = shot.elements.find((element) => "sky" in element.kind);
    if (sky) return shot.set("Sky set to an image", [sky.id], "/kind/sky/source", source);
    return shot.add("Sky", { sky: { strength: 1, source } }, [0, 0, 0]);
  }

  asMap(image: DroppedImage) {
    const ids = this.particles.map((element) => element.id);
    return shot.set("Map of births", ids, "/kind/particles/emission/map", (map: object | undefined) => ({
      ...map,
      source: { image: { asset: image.name } },
    }));
  }

  async asBackdrop(image: DroppedImage) {
    let id = 0;
    const saved = await shot.edit("Backdrop added", (document) => {
      id = shot.nextElement(document);
      return backdrop(document, image, id);
    });
    if (!saved) return;
    selection.only(id);
    desk.tab = "shape";
  }
}

/**
 * A plane that goes with the camera and fills the gate at its distance, whatever the lens: its size
 * follows the focal length by formulas. It shows the image as it is, by light of its own.
 */
export function backdrop(document: Shot, image: DroppedImage, id: number): Operation[] {
  const camera = document.elements.find((element) => element.id === document.camera);
  const gate = document.picture.width / document.picture.height;
  const name = freeName("Backdrop", new Set(document.elements.map((element) => element.name)));
  // As wide as the gate, or wider where the image is wider in proportion than the gate.
  const width = Math.max(1, image.aspect / gate);
  const round = (value: number) => Number(value.toFixed(5));
  const across = camera ? `{${camera.name}.sensor} / {${camera.name}.focal_length}` : "1";
  const size = (times: number) => ({ expression: `${round(times)} * -{${name}.position.z} * ${across}` });
  const value = {
    id,
    name,
    placement: { position_m: [0, 0, -BACKDROP_M], orientation_rad: [round(Math.PI / 2), 0, 0] },
    ...(camera ? { attached: { to: camera.id } } : {}),
    channels: {
      "kind.solid.shape.plane.size_m[0]": size(width),
      "kind.solid.shape.plane.size_m[1]": size(width / image.aspect),
    },
    kind: {
      solid: {
        shape: { plane: { size_m: [BACKDROP_M, BACKDROP_M / image.aspect] } },
        body: { moves: "animated" },
        look: { albedo: [0, 0, 0], roughness: 1, emission: [1, 1, 1], emission_image: image.name },
      },
    },
  };
  return [{ op: "add", path: "/elements/-", value }];
}

export const images = new Images();
