import * as THREE from "three";
import { expect, test } from "vitest";
import { weightsOf, arrowLines, strengthColour } from "./forces";

test("the strongest arrow is the longest, weaker ones shorter by the root of their strength", () => {
  const points = new Float32Array([0, 0, 0, 1, 0, 0, 2, 0, 0]);
  const vectors = [new THREE.Vector3(4, 0, 0), new THREE.Vector3(0, 0, 1), new THREE.Vector3()];
  const { positions, most } = arrowLines(points, (i) => vectors[i], 0.8);
  expect(most).toBe(4);
  expect([...positions.slice(0, 6)].map((v) => Number(v.toFixed(4)))).toEqual([0, 0, 0, 0.8, 0, 0]);
  expect([...positions.slice(18, 24)].map((v) => Number(v.toFixed(4)))).toEqual([1, 0, 0, 1, 0, 0.4]);
  // Where nothing acts there is a point.
  expect([...positions.slice(36, 54)].every(Number.isFinite)).toBe(true);
});

test("colours go from slate over aqua to lime and stay there", () => {
  const hex = (strength: number) => strengthColour(strength, new THREE.Color()).getHex();
  expect([hex(0), hex(0.5), hex(1), hex(7)]).toEqual([0x5d7486, 0x52cbbf, 0xc9f26b, 0xc9f26b]);
});

test("the weights of bodies come in the order of their elements", () => {
  const bodies = new Map([
    [3, new Float32Array(6)],
    [9, new Float32Array(3)],
  ]);
  const found = Float32Array.from({ length: 21 }, (_, i) => i);
  expect([...weightsOf(bodies, found)]).toEqual([
    [3, Float32Array.of(6, 13)],
    [9, Float32Array.of(20)],
  ]);
});
