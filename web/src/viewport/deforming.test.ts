import { expect, test } from "vitest";
import { DeformingGeometry, decodeTopology, normalsOf } from "./deforming";

/** Two triangles of a square in the plane y = 0 that share two corners; without UVs unless told. */
function square(uvs = false): ArrayBuffer {
  const words = [4, 2, uvs ? 1 : 0, 0, 1, 2, 2, 1, 3, 0, 1, 2, 3];
  const buffer = new ArrayBuffer(4 * words.length + (uvs ? 32 : 0));
  new Uint32Array(buffer).set(words);
  if (uvs) new Float32Array(buffer, 4 * words.length).set([0, 0, 0, 1, 1, 0, 1, 1]);
  return buffer;
}

const flat = new Float32Array([0, 0, 0, 0, 0, 1, 1, 0, 0, 1, 0, 1]);

test("a topology is read with its faces, shared normals and UVs", () => {
  const { index, smooth, groups, uvs } = decodeTopology(square(true));
  expect([...index.array]).toEqual([0, 1, 2, 2, 1, 3]);
  expect([[...smooth], groups]).toEqual([[0, 1, 2, 3], 4]);
  expect([...uvs!]).toEqual([0, 0, 0, 1, 1, 0, 1, 1]);
  expect(decodeTopology(square()).uvs).toBeNull();
});

test("normals follow the faces, and are one in a group", () => {
  const topology = decodeTopology(square());
  expect([...normalsOf(topology, flat)]).toEqual([0, 1, 0, 0, 1, 0, 0, 1, 0, 0, 1, 0]);
  // Upright instead, and all four corners in one group.
  const upright = new Float32Array([0, 0, 0, 0, 1, 0, 1, 0, 0, 1, 1, 0]);
  const one = { ...topology, smooth: new Uint32Array(4), groups: 1 };
  expect([...normalsOf(one, upright)].map((v) => v + 0)).toEqual([0, 0, -1, 0, 0, -1, 0, 0, -1, 0, 0, -1]);
});

test("a geometry is laid on one mesh after the other, of other faces too", () => {
  const deforming = new DeformingGeometry();
  const mesh = { topology: "a", frame: 1, places: flat };
  const topology = decodeTopology(square(true));
  deforming.show(mesh, topology);
  const { geometry } = deforming;
  const position = geometry.getAttribute("position");
  expect([deforming.shows(mesh), geometry.boundingBox!.max.toArray()]).toEqual([true, [1, 0, 1]]);
  const raised = { topology: "a", frame: 1, places: flat.map((v, i) => (i % 3 === 1 ? 2 : v)) };
  deforming.show(raised, topology);
  expect(geometry.getAttribute("position")).toBe(position);
  expect([deforming.shows(mesh), geometry.boundingBox!.min.y]).toEqual([false, 2]);
  const bare = decodeTopology(square());
  deforming.show(mesh, bare);
  expect(geometry.hasAttribute("uv")).toBe(false);
});
