import * as THREE from "three";
import { describe, expect, test } from "vitest";
import { movedBy, poseOf } from "./handles";

const near = (a: number[], b: number[]) => a.forEach((value, i) => expect(value).toBeCloseTo(b[i], 5));

describe("where the document has an element", () => {
  test("is what its constants say, turned about fixed x, then y, then z", () => {
    const pose = poseOf({ position_m: [1, 2, 3], orientation_rad: [Math.PI / 2, 0, Math.PI / 2] }, undefined);
    // x turns y to z and z to −y; then z turns x to y and y to −x.
    const turned = new THREE.Vector3(0, 1, 0).applyMatrix4(pose).toArray();
    near(turned, [1, 2, 4]);
  });
  test("is the frame's where it is keyed", () => {
    const bodies = { places: new Float32Array([4, 5, 6]), turns: new Int16Array([0, 0, 0, 32767]) };
    const pose = poseOf({ position_m: { keys: [] }, orientation_rad: [0, 0, 0] }, bodies);
    near(new THREE.Vector3().applyMatrix4(pose).toArray(), [4, 5, 6]);
  });
});

describe("a drag", () => {
  const pose = poseOf({ position_m: [2, 0, 0], orientation_rad: [0.3, -0.4, 0.5] }, undefined);

  test("that changes nothing gives back the numbers", () => {
    const moved = movedBy(7, pose, new THREE.Matrix4());
    near([...moved.place, ...moved.turn], [2, 0, 0, 0.3, -0.4, 0.5]);
  });
  test("moves every element by the same way", () => {
    const moved = movedBy(7, pose, new THREE.Matrix4().makeTranslation(0, 1, -1));
    near([...moved.place, ...moved.turn], [2, 1, -1, 0.3, -0.4, 0.5]);
  });
  test("turns the others around the one that carries the handles", () => {
    const about = new THREE.Matrix4()
      .makeTranslation(1, 0, 0)
      .multiply(new THREE.Matrix4().makeRotationY(Math.PI))
      .multiply(new THREE.Matrix4().makeTranslation(-1, 0, 0));
    near(movedBy(7, pose, about).place, [0, 0, 0]);
  });
});
