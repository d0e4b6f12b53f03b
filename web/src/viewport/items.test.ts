import * as THREE from "three";
import { expect, test, vi } from "vitest";
import type { Element, Shot } from "../api/client";
import { ViewportFrame, type BodiesOfFrame } from "./frames";
import { Items, type Showing } from "./items";

const sun = (irradiance = 3) =>
  ({
    id: 1,
    name: "Sun",
    placement: {},
    kind: { sun: { irradiance, colour: [1, 1, 1] } },
  }) as unknown as Element;
const region = (more = {}) =>
  ({
    id: 2,
    name: "Room",
    placement: {},
    kind: { region: { volume: { box: { size_m: [2, 2, 2] } } } },
    ...more,
  }) as unknown as Element;
const shotOf = (...elements: Element[]) =>
  ({ elements, picture: { width: 160, height: 90 }, assets: {} }) as unknown as Shot;
const at = (x: number, y = 0): BodiesOfFrame => ({
  places: new Float32Array([x, y, 0]),
  turns: new Int16Array([0, 0, 0, 32767]),
});
const showing = (more: Partial<Showing> = {}): Showing => ({
  selected: [],
  solo: [],
  collision: false,
  dragging: false,
  outside: true,
  target: new THREE.Vector3(),
  ...more,
});

function items(...elements: Element[]) {
  const scene = new THREE.Scene();
  const host = { load: vi.fn(), changed: vi.fn(), shadows: vi.fn() };
  const made = new Items(scene, host);
  made.setShot(1, shotOf(...elements), 1);
  const staged = new ViewportFrame(elements.map((element, i) => [element.id, at(3 * i)]));
  made.setFrames(null, staged, null);
  return { made, scene, host, staged };
}
const lines = (scene: THREE.Scene) => scene.children.filter((of) => of instanceof THREE.LineSegments);
const suns = (scene: THREE.Scene) => scene.children.filter((of) => of instanceof THREE.DirectionalLight);

test("each part of an element is drawn by a class of its own", () => {
  const { scene } = items(sun(), region());
  expect([suns(scene).length, lines(scene).length]).toEqual([1, 2]);
});

test("what stays the same is kept, and what changed is made anew", () => {
  const { made, scene } = items(sun(), region());
  const [light, marker] = [suns(scene)[0], lines(scene).at(-1)];
  expect(made.setShot(1, shotOf(sun(9), region({ name: "Hall" })), 1)).toBe(true);
  expect(suns(scene)).toHaveLength(1);
  expect(suns(scene)[0]).not.toBe(light);
  expect(lines(scene)).toContain(marker);
});

test("what is gone is taken out, and shadows are drawn anew", () => {
  const { made, scene, host } = items(sun(), region());
  host.shadows.mockClear();
  expect(made.setShot(1, shotOf(region()), 1)).toBe(true);
  expect([suns(scene).length, lines(scene).length, host.shadows.mock.calls.length]).toEqual([0, 1, 1]);
});

test("hidden elements and those beside one shown alone are not seen, nor picked", () => {
  const { made, scene } = items(sun(), region());
  const marker = lines(scene).at(-1)!;
  const ray = new THREE.Raycaster(new THREE.Vector3(4, 1, 5), new THREE.Vector3(0, 0, -1));
  const picked = (how: Showing) => {
    made.place(how);
    scene.updateMatrixWorld(true);
    return made.elementAt(ray);
  };
  expect(picked(showing())).toBe(2);
  expect(picked(showing({ solo: [1] }))).toBeNull();
  expect(marker.visible).toBe(false);
  made.setShot(1, shotOf(sun(), region({ locked: true })), 1);
  expect(picked(showing())).toBeNull();
});

test("a frame goes before the document, and a dragged element keeps its pose", () => {
  const { made, scene, staged } = items(sun(), region());
  const marker = lines(scene).at(-1)!;
  made.place(showing());
  const x = () => new THREE.Vector3().setFromMatrixPosition(marker.matrix).x;
  expect(x()).toBe(3);
  expect(made.setFrames(new ViewportFrame([[2, at(7)]]), staged, null)).toBe(true);
  made.place(showing({ selected: [2], dragging: true }));
  expect(x()).toBe(3);
  made.place(showing({ selected: [2] }));
  expect(x()).toBe(7);
});
