import * as THREE from "three";
import { expect, test } from "vitest";
import { planeOf } from "./cut";

test("a cut leaves what lies on the other side of its place along its axis", () => {
  const left = (axis: 0 | 1 | 2, at_m: number, below: boolean, ...point: [number, number, number]) =>
    planeOf({ axis, at_m, below }).distanceToPoint(new THREE.Vector3(...point)) > 0;
  expect(left(2, 0.3, false, 9, 9, 0.2)).toBe(true);
  expect(left(2, 0.3, false, 9, 9, 0.4)).toBe(false);
  expect(left(2, 0.3, true, 9, 9, 0.4)).toBe(true);
  expect(left(0, -1, false, -1.5, 0, 0)).toBe(true);
  expect(left(1, -1, true, 0, -1.5, 0)).toBe(false);
});
