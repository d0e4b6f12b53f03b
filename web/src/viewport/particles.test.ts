import * as THREE from "three";
import { expect, test } from "vitest";
import type { Particles } from "../api/client";
import type { ParticlesOfFrame } from "./frames";
import { ownRandom, picked, shown, speedOf } from "./appearance";
import { ParticleCloud, metBy } from "./particles";

const look = { by: null, every: 1 } as const;

/** Particles in a row, each further in its life and faster than the one before. */
function row(count: number): ParticlesOfFrame {
  const each = (width: number, value: (i: number, part: number) => number) =>
    Array.from({ length: count * width }, (_, n) => value(Math.floor(n / width), n % width));
  return {
    places: new Float32Array(each(3, (i, part) => (part === 0 ? i : 0))),
    sizes: new Float32Array(each(1, () => 0.1)),
    ids: new Uint32Array(each(1, (i) => i)),
    motions: new Int16Array(
      each(4, (i, part) => (part === 0 ? 50 * i : part === 3 ? (32767 * i) / (count - 1) : 0)),
    ),
  };
}

const particles = (appearance: object) => ({ appearance, seed: 3 }) as unknown as Particles;

test("a colour over life goes from stop to stop", () => {
  const stop = (at: number, grey: number) => ({ at, colour: [grey, grey, grey] });
  const of = particles({
    colour_by: "life",
    colours: [stop(0, 1), stop(1, 3)],
    size_by: "life",
    sizes: [{ at: 0, size: 2 }],
  });
  const { colours, sizes } = shown(row(3), of, 4, look);
  expect([colours[0], colours[3], colours[6]]).toEqual([1, 2, 3]);
  expect(sizes[1]).toBeCloseTo(0.2, 6);
});

test("one of several is drawn where that is enough to judge", () => {
  const { colours, sizes } = shown(row(10), particles({}), 4, { by: "speed", every: 4 });
  expect([sizes.length, colours.length]).toEqual([3, 9]);
  expect(speedOf(row(10), 8)).toBeCloseTo(8, 5);
});

test("which particles they are is told by different colours, whatever their seeds", () => {
  const colour = (element: number) =>
    String(shown(row(1 + 1), particles({}), element, { by: "element", every: 1 }).colours.slice(0, 3));
  expect(new Set([3, 4, 5, 6, 7].map(colour)).size).toBe(5);
});

test("a particle's own number is the core's", () => {
  // As shot::own_random gives them.
  expect(ownRandom(7, 12)).toBeGreaterThanOrEqual(0);
  expect(new Set(Array.from({ length: 50 }, (_, id) => ownRandom(7, id))).size).toBe(50);
});

test("copies are picked in turn, by size or by chance", () => {
  const by = (choice: string) => ({
    appearance: { form: { instance: { solids: [1, 2, 3], choice } } },
    start: { size_m: 0.1, size_variation: 0.5 },
  });
  const particles = row(6);
  particles.sizes[5] = 0.149;
  const of = (pick: string, i: number) => picked(by(pick) as unknown as Particles, 3, particles, i);
  expect([0, 1, 2, 3].map((i) => of("order", i))).toEqual([0, 1, 2, 0]);
  expect([of("size", 0), of("size", 5)]).toEqual([1, 2]);
  expect(of("random", 2)).toBeLessThan(3);
});

test("dots become streaks and copies without leaving anything behind", () => {
  const clouds = new ParticleCloud(4);
  const geometry = new THREE.BoxGeometry();
  geometry.computeBoundingBox();
  const solid = { geometry, material: new THREE.MeshStandardMaterial() };
  const draw = (form: unknown) => clouds.show(row(40), particles({ form }), look, [solid]);
  draw("sphere");
  expect([clouds.group.children.length, clouds.drawn]).toEqual([1, 40]);
  draw({ streak: { duration_s: 0.1 } });
  expect([clouds.group.children.length, clouds.drawn]).toEqual([1, 40]);
  draw({ instance: { solids: [9] } });
  const mesh = clouds.group.children[0] as THREE.InstancedMesh;
  expect([clouds.group.children.length, mesh.count]).toEqual([1, 40]);
  const matrix = new THREE.Matrix4();
  mesh.getMatrixAt(7, matrix);
  expect(new THREE.Vector3().setFromMatrixPosition(matrix).x).toBe(7);
  expect(new THREE.Vector3().setFromMatrixScale(matrix).x).toBeCloseTo(0.1, 6);
  draw("nothing");
  expect(clouds.group.children.length).toBe(0);
});

test("a colour by the map is that of where each was born", () => {
  const colours = [
    { at: 0, colour: [0, 0, 0] },
    { at: 1, colour: [4, 4, 4] },
  ];
  const of = particles({ colour_by: "map", colours });
  const mapped = { ...row(2), weights: new Float32Array([0.25, 1]) };
  expect(shown(mapped, of, 4, look).colours[0]).toBeCloseTo(1);
  // Without a map all have its full weight.
  expect(shown(row(2), of, 4, look).colours[0]).toBe(4);
});

test("a ray meets the nearest particle, and one it passes by closely", () => {
  const along = (y: number) => new THREE.Ray(new THREE.Vector3(-5, y, 0), new THREE.Vector3(1, 0, 0));
  expect(metBy(along(0), row(3), 0)).toBe(5);
  expect(metBy(along(0.06), row(3), 0)).toBeNull();
  expect(metBy(along(0.06), row(3), 0.02)).toBe(5);
  expect(
    metBy(new THREE.Ray(new THREE.Vector3(9, 0, 0), new THREE.Vector3(1, 0, 0)), row(3), 0.1),
  ).toBeNull();
  const clouds = new ParticleCloud(4);
  expect(clouds.metBy(along(0), 0)).toBeNull();
  clouds.show(row(3), particles({}), look, []);
  expect(clouds.metBy(along(0), 0)).toBe(5);
  clouds.group.visible = false;
  expect(clouds.metBy(along(0), 0)).toBeNull();
});
