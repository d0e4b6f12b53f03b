// What can be added to a shot, at which place and with which values it begins.
import {
  api,
  type Element,
  type ModelElements,
  type Operation,
  type Schemas,
  type Vector,
} from "../api/client";
import { tick } from "svelte";
import { desk } from "./desk.svelte";
import { images } from "./images.svelte";
import { notices } from "./notices.svelte";
import { selection } from "./selection.svelte";
import { freeName, shot } from "./shot.svelte";

const solid = (
  shape: Schemas["Shape"],
  moves: Schemas["Moves"] = "free",
  copies?: Partial<Schemas["Copies"]>,
): Element["kind"] => ({ solid: { shape, body: { moves }, look: {}, copies } }) as Element["kind"];

/** What a sky begins as. */
export const SKY = {
  gradient: { zenith: [0.22, 0.32, 0.48], horizon: [0.62, 0.66, 0.7], ground: [0.16, 0.15, 0.14] },
} as Schemas["SkySource"];

/** What a grid of copies begins as. */
export const GRID = {
  count: [3, 3, 3],
  spacing_m: [0.6, 0.6, 0.6],
  position_jitter_m: 0,
  orientation_jitter_rad: 0,
  seed: 1,
};

const force = (kind: unknown) => ({ force: { kind } }) as Element["kind"];
const particles = (particles: object) => ({ particles }) as Element["kind"];
const region = (volume: unknown) => ({ region: { volume, edge_m: 0.3 } }) as Element["kind"];
const curve = (of: unknown) => ({ curve: of }) as Element["kind"];

export interface Addable {
  name: string;
  group: "Solid" | "Particle" | "Camera" | "Light" | "Force" | "Region" | "Curve";
  make: () => Element["kind"];
  place: Vector;
  turn?: Vector;
  /** What it lacks to be added, if anything. */
  needs?: () => string | null;
}

export const addables: Addable[] = [
  {
    name: "Box",
    group: "Solid",
    make: () => solid({ box: { size_m: [0.5, 0.5, 0.5], edge_m: 0.01 } }),
    place: [0, 1, 0],
  },
  { name: "Sphere", group: "Solid", make: () => solid({ sphere: { radius_m: 0.25 } }), place: [0, 1, 0] },
  {
    name: "Capsule",
    group: "Solid",
    make: () => solid({ capsule: { radius_m: 0.15, length_m: 0.4 } }),
    place: [0, 1, 0],
  },
  {
    name: "Cylinder",
    group: "Solid",
    make: () => solid({ cylinder: { radius_m: 0.25, height_m: 0.5 } }),
    place: [0, 1, 0],
  },
  {
    name: "Cone",
    group: "Solid",
    make: () => solid({ cone: { radius_m: 0.25, height_m: 0.5 } }),
    place: [0, 1, 0],
  },
  {
    name: "Torus",
    group: "Solid",
    make: () => solid({ torus: { major_radius_m: 0.3, minor_radius_m: 0.08 } }),
    place: [0, 1, 0],
  },
  {
    name: "Plane",
    group: "Solid",
    make: () => solid({ plane: { size_m: [10, 10] } }, "still"),
    place: [0, 0, 0],
  },
  {
    name: "Grid of boxes",
    group: "Solid",
    make: () => solid({ box: { size_m: [0.5, 0.5, 0.5], edge_m: 0.01 } }, "free", GRID as Schemas["Copies"]),
    place: [0, 0.3, 0],
  },
  { name: "Particles", group: "Particle", make: () => particles({}), place: [0, 0.5, 0] },
  {
    name: "Particles from a plane",
    group: "Particle",
    make: () =>
      particles({
        source: { shape: { shape: { plane: { size_m: [3, 3] } }, domain: "surface" } },
        start: { speed_m_s: 0, spread_rad: 0, lifespan_s: 4 },
      }),
    place: [0, 2.5, 0],
  },
  {
    name: "Particles from the selection",
    group: "Particle",
    make: () => particles({ source: sourceOf(selected()), start: { direction: "normal" } }),
    place: [0, 0, 0],
    needs: () => (selected() ? null : "Select the solid or curve first that they are to be born on."),
  },
  {
    name: "Particles of others",
    group: "Particle",
    make: () => particles({ emission: { schedule: { never: {} } } }),
    place: [0, 0.5, 0],
  },
  {
    name: "Camera",
    group: "Camera",
    make: () => ({ camera: {} }) as Element["kind"],
    place: [3, 1.8, 5],
    turn: [-0.18, 0.54, 0],
  },
  {
    name: "Sun",
    group: "Light",
    make: () => ({ sun: { irradiance: 3, colour: [1, 0.93, 0.82], angle_rad: 0.02 } }),
    place: [2, 5, 2],
    turn: [0.5, 0, -0.6],
  },
  {
    name: "Area light",
    group: "Light",
    make: () => ({ area_light: { size_m: [1, 1], radiance: 10, colour: [1, 1, 1] } }),
    place: [0, 3, 0],
  },
  {
    name: "Sky",
    group: "Light",
    make: () => ({ sky: { strength: 1, source: SKY } }),
    place: [0, 0, 0],
  },
  {
    name: "Gravity",
    group: "Force",
    make: () => force({ gravity: { acceleration: [0, -9.81, 0] } }),
    place: [0, 0, 0],
  },
  { name: "Pull", group: "Force", make: () => force({ pull: { force_n: 10 } }), place: [0, 1.5, 0] },
  // What blows along −y blows along +x when turned a quarter about z.
  {
    name: "Wind",
    group: "Force",
    make: () => force({ wind: {} }),
    place: [-2, 1, 0],
    turn: [0, 0, Math.PI / 2],
  },
  { name: "Turbulence", group: "Force", make: () => force({ turbulence: {} }), place: [0, 1, 0] },
  { name: "Vortex", group: "Force", make: () => force({ vortex: {} }), place: [0, 0, 0] },
  { name: "Attractor", group: "Force", make: () => force({ attract: {} }), place: [0, 1, 0] },
  {
    name: "Drag",
    group: "Force",
    make: () => force({ drag: { linear_n_s_m: 0, density_kg_m3: 1.2 } }),
    place: [0, 1, 0],
  },
  {
    name: "Stream along a curve",
    group: "Force",
    make: () =>
      force({ along: { curve: curveToFollow()?.id ?? 0, speed_m_s: 3, inflow_m_s: 1, range_m: 1 } }),
    place: [0, 0, 0],
    needs: () => (curveToFollow() ? null : "A stream needs a curve to follow. Add a line or circle first."),
  },
  {
    name: "Box region",
    group: "Region",
    make: () => region({ box: { size_m: [2, 2, 2] } }),
    place: [0, 1, 0],
  },
  {
    name: "Sphere region",
    group: "Region",
    make: () => region({ sphere: { radius_m: 1 } }),
    place: [0, 1, 0],
  },
  {
    name: "Cylinder region",
    group: "Region",
    make: () => region({ cylinder: { radius_m: 1, height_m: 2 } }),
    place: [0, 1, 0],
  },
  { name: "Half-space", group: "Region", make: () => region({ half_space: {} }), place: [0, 1, 0] },
  {
    name: "Noise region",
    group: "Region",
    make: () => region({ noise: { size_m: 1, threshold: 0.5, softness: 0.2 } }),
    place: [0, 1, 0],
  },
  {
    name: "Line",
    group: "Curve",
    make: () =>
      curve({
        points: {
          points_m: [
            [-1, 0, 0],
            [0, 0.6, 0],
            [1, 0, 0],
          ],
          smooth: true,
        },
      }),
    place: [0, 1, 0],
  },
  { name: "Circle", group: "Curve", make: () => curve({ circle: { radius_m: 1 } }), place: [0, 1, 0] },
];

/** The selected solid or curve. */
function selected(): Element | undefined {
  return selection.ids
    .map((id) => shot.element(id))
    .find((element) => element && ("solid" in element.kind || "curve" in element.kind));
}

function sourceOf(element: Element | undefined): Schemas["Source"] {
  if (!element) return { point: {} };
  if ("curve" in element.kind) return { curve: { curve: element.id } };
  return { solid: { solid: element.id, domain: "surface" } };
}

/** The selected curve, or else the first. */
function curveToFollow(): Element | undefined {
  const curves = shot.elements.filter((element) => "curve" in element.kind);
  return curves.find((element) => selection.has(element.id)) ?? curves[0];
}

/** Adds a curve of the outlines of letters. */
export async function addText() {
  const lettering = { text: "Tide", line_m: 0.6 };
  const strokes_m = await notices.attempt(() => api.outlineText(lettering.text, lettering.line_m));
  if (strokes_m) await shot.add("Text", curve({ strokes: { strokes_m, lettering } }), [0, 0.5, 0]);
}

/** Adds an element, opens its first tab, and looks at the element if it is out of view. */
export async function add(addable: Addable, at?: Vector) {
  const lacking = addable.needs?.();
  if (lacking) return notices.say(lacking);
  const saved = await shot.add(addable.name, addable.make(), at ?? addable.place, addable.turn);
  if (!saved) return;
  desk.tab = "shape";
  await tick();
  if (desk.viewport && !desk.viewport.seesSelection()) desk.viewport.frameSelection();
  // A menu or dialog that closes gives the focus back first.
  requestAnimationFrame(() => desk.viewport?.focus());
}

/** Takes in files: a mesh becomes a body, a drawing a curve, an environment the sky; what an image is, is asked. */
export async function addFiles(files: Iterable<File>, at: Vector = [0, 0, 0]) {
  const refused: string[] = [];
  for (const file of files) {
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
  if (asset.kind === "mesh") return addModel(id, file.name, { name, asset }, parts, at);
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
