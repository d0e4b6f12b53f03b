import * as THREE from "three";
import { expect, test } from "vitest";
import { placementOf, relative } from "./attaching";

const bodies = (place: number[], turn = new THREE.Quaternion()) => ({
  places: new Float32Array(place),
  turns: new Int16Array(turn.toArray().map((v) => Math.round(32767 * v))),
});
const close = (a: number[], b: number[]) => a.forEach((v, i) => expect(v).toBeCloseTo(b[i], 3));

test("turns come out about the fixed axes x, then y, then z", () => {
  const turn = new THREE.Quaternion().setFromEuler(new THREE.Euler(0.3, -0.4, 1.1, "ZYX"));
  const matrix = new THREE.Matrix4().compose(new THREE.Vector3(1, 2, 3), turn, new THREE.Vector3(1, 1, 1));
  const { position_m, orientation_rad } = placementOf(matrix);
  close(position_m, [1, 2, 3]);
  close(orientation_rad, [0.3, -0.4, 1.1]);
});

test("a new place in the world is relative to what carries the element", () => {
  // Its base stands at (5, 0, 0), turned a quarter about y: its own x is the world's −z.
  const quarter = new THREE.Quaternion().setFromAxisAngle(new THREE.Vector3(0, 1, 0), Math.PI / 2);
  const local = { position_m: [1, 0, 0], orientation_rad: [0, 0, 0] };
  const next = {
    position_m: [5, 0, -3] as [number, number, number],
    orientation_rad: [0, Math.PI / 2, 0] as [number, number, number],
  };
  const { position_m, orientation_rad } = relative(local, bodies([5, 0, -1], quarter), next);
  close(position_m, [3, 0, 0]);
  close(orientation_rad, [0, 0, 0]);
});
