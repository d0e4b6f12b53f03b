// Taking in files that were dropped or chosen.
import {
  api,
  type Element,
  type ModelElements,
  type Operation,
  type Schemas,
  type Vector,
} from "../api/client";
import { curve } from "./addables";
import { sequencesOf } from "./sequences";
import { images } from "./images.svelte";
import { notices } from "./notices.svelte";
import { selection } from "./selection.svelte";
import { freeName, shot } from "./shot.svelte";

/** Takes in files: a mesh becomes a body, a drawing a curve, an environment the sky; what an image is, is asked. */
export async function addFiles(dropped: Iterable<File>, at: Vector = [0, 0, 0]) {
  const refused: string[] = [];
  for (const file of await sequencesOf([...dropped])) {
    try {
      await addFile(file, at);
    } catch (error) {
      refused.push(error instanceof Error ? error.message : String(error));
    }
  }
  // However many they are, they are told once.
  if (refused.length === 1) notices.say(refused[0], { grave: true });
  if (refused.length > 1)
    notices.say(`${refused.length} files were not taken in. ${refused.join(" · ")}`, { grave: true });
}

/** Makes a mesh of a solid as it is at the frame shown: a still body, in the place of the solid then. */
export async function takeShape(element: Element, frame: number) {
  const id = shot.id;
  if (id === null) return;
  const obj = await notices.attempt(() => api.shapeAt(id, element.id, frame));
  if (obj) await addFiles([new File([obj], `${element.name} ${frame}.obj`)]);
}

/** Makes the shape that a cloth or soft body has at a frame its shape at rest, in its place then; its pins, maps and settings stay. */
export async function restInShape(element: Element, frame: number) {
  const id = shot.id;
  if (id === null) return;
  const model = await notices.attempt(async () => {
    const obj = await api.computedShapeAt(id, element.id, frame);
    const { name, asset } = await api.upload(id, new File([obj], `${element.name} ${frame}.obj`));
    return api.modelElements(id, { name, asset, separate: false });
  });
  const rest = model?.elements[0];
  if (!model || !rest || !("solid" in rest.kind)) return;
  const { shape } = rest.kind.solid;
  await shot.edit(`${element.name} at rest as at frame ${frame}`, (document) => {
    const at = `/elements/${document.elements.findIndex((of) => of.id === element.id)}`;
    return [
      ...Object.entries(model.assets).map(([name, asset]) => ({
        op: "add" as const,
        path: pathOf(name),
        value: asset,
      })),
      { op: "replace", path: `${at}/kind/solid/shape`, value: shape },
      { op: "replace", path: `${at}/placement/position_m`, value: rest.position_m },
      { op: "replace", path: `${at}/placement/orientation_rad`, value: rest.orientation_rad },
    ];
  });
}

const pathOf = (asset: string) => `/assets/${asset.replaceAll("~", "~0").replaceAll("/", "~1")}`;

async function addFile(file: File, at: Vector) {
  const id = shot.id;
  if (id === null) return;
  if (file.name.toLowerCase().endsWith(".svg")) {
    const strokes_m = await api.outlineDrawing(file);
    const name = file.name.replace(/\.svg$/i, "");
    await shot.add(name, curve({ strokes: { strokes_m } }), [at[0], at[1] + 0.5, at[2]]);
    return;
  }
  const uploaded = await api.upload(id, file);
  const { name, asset, notice, parts } = uploaded;
  if (notice) notices.say(notice);
  if (asset.kind === "mesh" || asset.kind === "mesh_sequence")
    return addModel(id, file.name, { name, asset }, parts, at);
  const keep: Operation = { op: "add", path: pathOf(name), value: asset };
  if (!(await shot.edit(`${file.name} taken in`, () => [keep]))) return;
  if (asset.kind === "environment") {
    const source = { image: { asset: name } };
    const sky = shot.elements.find((element) => "sky" in element.kind);
    if (sky) await shot.set("Sky set to an image", [sky.id], "/kind/sky/source", source);
    else await shot.add("Sky", { sky: { strength: 1, source } }, [0, 0, 0]);
  } else {
    const bitmap = await createImageBitmap(file);
    images.ask({ name, aspect: bitmap.width / bitmap.height });
    bitmap.close();
  }
}

interface Taken {
  name: string;
  asset: Schemas["Asset"];
}

/** Adds the meshes of a file as one body, and offers to take its parts as bodies of their own. */
async function addModel(id: number, file: string, taken: Taken, parts: number, at: Vector) {
  const whole = await api.modelElements(id, { ...taken, separate: false });
  if (!(await placeModel(`${file} taken in`, whole, at, []))) return;
  const [body] = selection.ids;
  if (parts < 2) return;
  const several = `${parts} bodies`;
  const apart = async () => {
    const model = await notices.attempt(() => api.modelElements(id, { ...taken, separate: true }));
    if (model) await placeModel(`${file} taken in as ${several}`, model, at, [body]);
  };
  notices.say(`${file} holds ${parts} meshes, taken in as one body.`, {
    action: { label: `Make ${several} of it`, run: () => void apart() },
  });
}

/** Puts elements of a model into the shot, in the place of others. */
async function placeModel(label: string, model: ModelElements, at: Vector, instead: number[]) {
  for (const notice of model.notices) notices.say(notice);
  const made: number[] = [];
  const saved = await shot.edit(label, (document) => {
    let next = shot.nextElement(document);
    const leaving = document.elements.flatMap((element, i) => (instead.includes(element.id) ? [i] : []));
    const taken = new Set(
      document.elements.filter((element) => !instead.includes(element.id)).map((element) => element.name),
    );
    const elements = model.elements.map(({ name, kind, position_m, orientation_rad }) => {
      const free = freeName(name, taken);
      taken.add(free);
      made.push(next);
      const place = position_m.map((v, axis) => v + at[axis]);
      return { id: next++, name: free, placement: { position_m: place, orientation_rad }, kind };
    });
    return [
      ...leaving.reverse().map((i) => ({ op: "remove" as const, path: `/elements/${i}` })),
      ...Object.entries(model.assets).map(([name, asset]) => ({
        op: "add" as const,
        path: pathOf(name),
        value: asset,
      })),
      ...elements.map((value) => ({ op: "add" as const, path: "/elements/-", value })),
    ];
  });
  if (saved) selection.set(made);
  return saved;
}
