import * as THREE from "three";
import { expect, test } from "vitest";
import type { Element } from "../api/client";
import { arrange, matrixOf, sameBodies, shade } from "./bodies";
import { lightOf } from "./lights";
import { skyKey, skyTexture, upAndDown } from "./sky";
import { markerOf } from "./markers";
import { layOutline, outline } from "./overlays";

const bodies = (xs: number[]) => ({
  places: new Float32Array(xs.flatMap((x) => [x, 0, 0])),
  turns: new Int16Array(xs.flatMap(() => [0, 0, 0, 32767])),
});
const mesh = (count: number) =>
  new THREE.InstancedMesh(new THREE.BoxGeometry(), new THREE.MeshBasicMaterial(), count);

test("instances stand where the frame has them", () => {
  const three = mesh(3);
  arrange(three, bodies([1, 5, 9]));
  const matrix = new THREE.Matrix4();
  three.getMatrixAt(2, matrix);
  expect(new THREE.Vector3().setFromMatrixPosition(matrix).x).toBe(9);
});

test("a frame of fewer or more bodies than the document draws those that are both", () => {
  const three = mesh(3);
  arrange(three, bodies([1]));
  expect(three.count).toBe(1);
  arrange(three, bodies([1, 2, 3, 4, 5]));
  expect(three.count).toBe(3);
});

test("a turn is unit length whatever its rounding", () => {
  const rough = { places: new Float32Array(3), turns: new Int16Array([0, 0, 11, 32760]) };
  const scale = new THREE.Vector3().setFromMatrixScale(matrixOf(rough, 0));
  expect(scale.x).toBeCloseTo(1, 6);
});

test("bodies that did not move are known to be where they were", () => {
  expect(sameBodies(bodies([1, 2]), bodies([1, 2]))).toBe(true);
  expect(sameBodies(bodies([1, 2]), bodies([1, 3]))).toBe(false);
  expect(sameBodies(bodies([1, 2]), bodies([1]))).toBe(false);
});

test("copies are shaded within the variation and the same every time", () => {
  const [one, two] = [mesh(40), mesh(40)];
  shade(one, 0.4);
  shade(two, 0.4);
  expect([...one.instanceColor!.array]).toEqual([...two.instanceColor!.array]);
  expect(Math.min(...one.instanceColor!.array)).toBeGreaterThanOrEqual(0.6);
  expect(new Set(one.instanceColor!.array).size).toBeGreaterThan(20);
});

test("an outline follows every copy, and the box of what is round", () => {
  const lines = outline();
  const box = new THREE.BoxGeometry();
  box.computeBoundingBox();
  layOutline(lines, box, bodies([0, 10]));
  expect(lines.geometry.getAttribute("position").count).toBe(48);
  const ball = new THREE.SphereGeometry(1, 32, 16);
  ball.computeBoundingBox();
  layOutline(lines, ball, bodies([0]));
  expect(lines.geometry.getAttribute("position").count).toBe(24);
});

const element = (kind: unknown) => ({ id: 4, name: "E", kind }) as Element;

test("cameras and lights have marks, solids have none", () => {
  expect(markerOf(element({ solid: {} }), 1.5)).toBeUndefined();
  for (const is of [
    { camera: {} },
    { sun: { irradiance: 1, colour: [1, 1, 1], angle_rad: 0 } },
    { area_light: { size_m: [2, 1], radiance: 1, colour: [1, 1, 1] } },
  ]) {
    const marker = markerOf(element(is), 1.5)!;
    expect(marker.userData.element).toBe(4);
    expect(marker.geometry.getAttribute("position").count % 2).toBe(0);
  }
});

test("a wider lens has a wider mark", () => {
  const width = (focal_length_mm: number) => {
    const marker = markerOf(element({ camera: { focal_length_mm, sensor_mm: 36 } }), 1.5)!;
    marker.geometry.computeBoundingBox();
    return marker.geometry.boundingBox!.max.x;
  };
  // x = depth · sensor / (2 focal).
  expect(width(18)).toBeCloseTo(0.6, 6);
  expect(width(36)).toBeCloseTo(0.3, 6);
});

test("a sun is a direction, an area light a point, others are no light", () => {
  const sun = { sun: { irradiance: 3, colour: [1, 0.5, 0.2], angle_rad: 0.01 } };
  expect(lightOf(element(sun))).toBeInstanceOf(THREE.DirectionalLight);
  expect(lightOf(element(sun))!.intensity).toBe(3);
  const area = { area_light: { size_m: [2, 0.5], radiance: 10, colour: [1, 1, 1] } };
  expect(lightOf(element(area))!.intensity).toBe(10);
  expect(lightOf(element({ camera: {} }))).toBeUndefined();
});

test("a hidden sky gives no light", () => {
  const sky = element({ sky: { strength: 2, source: {} } });
  const shot = (hidden: boolean) => ({ elements: [{ ...sky, hidden }] }) as never;
  expect(skyKey(shot(false))).toContain("strength");
  expect(skyKey(shot(true))).toBeNull();
});

test("an even sky gives its own radiance up and down, a half one to one side only", () => {
  const one = THREE.DataUtils.toHalfFloat(1);
  const texels = new Uint16Array(64 * 32 * 4).fill(one);
  const even = upAndDown(skyTexture(texels.buffer));
  expect(even.up.r).toBeCloseTo(1, 2);
  expect(even.down.b).toBeCloseTo(1, 2);
  // Rows go from straight down to straight up.
  texels.fill(0, 0, texels.length / 2);
  const above = upAndDown(skyTexture(texels.buffer));
  expect(above.up.g).toBeCloseTo(1, 2);
  expect(above.down.g).toBe(0);
});
