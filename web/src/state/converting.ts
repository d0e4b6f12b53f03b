// Copies of a solid turned into particles that look like it, and back.
import type { Element, Operation, Schemas, Shot } from "../api/client";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";

/** So many particles take the place of copies. */
export const MANY = 20_000;

/** The longest side of a shape by its values, m; undefined for a mesh, whose size only its file has. */
export function longestSide(shape: Schemas["Shape"]): number | null {
  if ("box" in shape) return Math.max(...shape.box.size_m);
  if ("sphere" in shape) return 2 * shape.sphere.radius_m;
  if ("capsule" in shape) return 2 * shape.capsule.radius_m + shape.capsule.length_m;
  if ("cylinder" in shape) return Math.max(shape.cylinder.height_m, 2 * shape.cylinder.radius_m);
  if ("cone" in shape) return Math.max(shape.cone.height_m, 2 * shape.cone.radius_m);
  if ("torus" in shape) return 2 * (shape.torus.major_radius_m + shape.torus.minor_radius_m);
  if ("plane" in shape) return Math.max(...shape.plane.size_m);
  return null;
}

/** Particles that fill the volume of a solid's copies as instances of it, smaller the more they are. */
export function asParticles(element: Element, id: number, name: string): Element | null {
  const solid = "solid" in element.kind ? element.kind.solid : undefined;
  if (!solid?.copies) return null;
  const { count, spacing_m } = solid.copies;
  const copies = count.reduce((a, b) => a * b, 1);
  const longest = longestSide(solid.shape) ?? Math.min(...spacing_m.map(Math.abs));
  const room = count.map((n, axis) => Math.max(0.01, n * Math.abs(spacing_m[axis])));
  const share = Math.cbrt(copies / Math.max(MANY, copies));
  const [x, y, z] = element.placement?.position_m ?? [0, 0, 0];
  const weight = solid.body?.weight;
  const particles = {
    source: { shape: { shape: { box: { size_m: room, edge_m: 0 } }, domain: "volume" } },
    emission: { schedule: { burst: { count: Math.max(MANY, copies) } }, evenly_spaced: true },
    start: {
      speed_m_s: 0,
      lifespan_s: null,
      size_m: Number((longest * share).toPrecision(3)),
      size_variation: 0.2,
      orientation_variation: 1,
    },
    body: {
      // As heavy for its size as the solid.
      weight:
        weight && "mass_kg" in weight
          ? { mass_kg: Number((weight.mass_kg * share ** 3).toPrecision(4)) }
          : weight,
      drag: solid.body?.drag ?? 0.6,
    },
    contact: {
      restitution: solid.body?.restitution ?? 0.2,
      friction: solid.body?.friction ?? 0.5,
      push: false,
    },
    appearance: { form: { instance: { solids: [element.id] } } },
    seed: solid.copies.seed,
  };
  const place = [x, y + ((count[1] - 1) * spacing_m[1]) / 2, z];
  return {
    id,
    name,
    placement: { position_m: place, orientation_rad: [0, 0, 0] },
    kind: { particles },
  } as unknown as Element;
}

/** The operations that let particles stand in for a solid's copies. */
export function toParticles(document: Shot, id: number): Operation[] {
  const index = document.elements.findIndex((e) => e.id === id);
  const next = Math.max(0, ...document.elements.map((e) => e.id)) + 1;
  const taken = new Set(document.elements.map((e) => e.name));
  const element = document.elements[index];
  let name = `${element.name} as particles`;
  for (let n = 2; taken.has(name); n++) name = `${element.name} as particles ${n}`;
  const particles = asParticles(element, next, name);
  if (!particles) return [];
  return [
    { op: "add", path: `/elements/${index}/kind/solid/from_particles`, value: 1000 },
    { op: "add", path: "/elements/-", value: particles },
  ];
}

/** The operations that let a solid stand for itself again, without the particles that stood in for it. */
export function toSolids(document: Shot, id: number): Operation[] {
  const index = document.elements.findIndex((e) => e.id === id);
  const stands = (e: Element) => {
    const form = "particles" in e.kind ? e.kind.particles.appearance?.form : undefined;
    return typeof form === "object" && "instance" in form && String(form.instance.solids) === String(id);
  };
  const gone = document.elements.flatMap((e, at) => (stands(e) ? [at] : []));
  return [
    { op: "add", path: `/elements/${index}/kind/solid/from_particles`, value: null },
    ...gone.reverse().map((at): Operation => ({ op: "remove", path: `/elements/${at}` })),
  ];
}

export function turnIntoParticles(element: Element) {
  return shot.edit(`${element.name} as particles`, (document) => toParticles(document, element.id));
}

export async function standAgain(element: Element) {
  await shot.edit(`${element.name} as solids`, (document) => toSolids(document, element.id));
  selection.only(element.id);
}
