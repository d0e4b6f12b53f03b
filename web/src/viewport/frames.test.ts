import { expect, test } from "vitest";
import { decodeFrame, ViewportFrame } from "./frames";
import { decodeMesh } from "./geometry";

/** A frame as the server lays it out: elements of bodies at (x, 0, 0). */
function frame(elements: [number, number[]][], before = 0): ArrayBuffer {
  const bodies = elements.reduce((sum, [, xs]) => sum + xs.length, 0);
  const view = new DataView(new ArrayBuffer(before + 24 + 8 * elements.length + 20 * bodies));
  view.setUint32(before, 9, true);
  view.setUint32(before + 4, 1, true);
  view.setUint32(before + 12, elements.length, true);
  let at = before + 16;
  for (const [id, xs] of elements) {
    view.setUint32(at, id, true);
    view.setUint32(at + 4, xs.length, true);
    at += 8;
  }
  for (const [, xs] of elements) {
    for (const x of xs) {
      view.setFloat32(at, x, true);
      at += 12;
    }
    for (let i = 0; i < xs.length; i++) {
      view.setInt16(at + 6, 32767, true);
      at += 8;
    }
  }
  return view.buffer;
}

test.each([0, 8])("bodies are read by element, from byte %i on", (before) => {
  const decoded = decodeFrame(
    frame(
      [
        [3, [1, 2]],
        [8, []],
        [5, [7]],
      ],
      before,
    ),
    before,
  );
  expect([...decoded.keys()]).toEqual([3, 8, 5]);
  expect([...decoded.get(3)!.places]).toEqual([1, 0, 0, 2, 0, 0]);
  expect([...decoded.get(5)!.turns]).toEqual([0, 0, 0, 32767]);
  expect(decoded.get(8)!.places).toHaveLength(0);
});

test("particles are read after the bodies, with what they have", () => {
  const view = new DataView(new ArrayBuffer(24 + 8 + 2 * 36));
  view.setUint32(16, 1, true);
  view.setUint32(20, 6, true);
  view.setUint32(24, (2 | 0x80000000) >>> 0, true);
  view.setFloat32(28 + 12, 4, true);
  view.setFloat32(28 + 24, 0.5, true);
  view.setUint32(28 + 32 + 4, 77, true);
  view.setInt16(28 + 40 + 6, 32767, true);
  view.setInt16(28 + 56 + 6, 32767, true);
  const { particles } = decodeFrame(view.buffer);
  const { places, sizes, ids, motions, turns } = particles.get(6)!;
  expect([places[3], sizes[0], ids[1], motions[3], turns![3]]).toEqual([4, 0.5, 77, 32767, 32767]);
});

test("the weights of a map are read where there are any", () => {
  const whole = new DataView(new ArrayBuffer(24 + 16 + 32 + 28));
  whole.setUint32(16, 2, true);
  whole.setUint32(20, 6, true);
  whole.setUint32(24, (1 | 0x40000000) >>> 0, true);
  whole.setUint32(28, 7, true);
  whole.setUint32(32, 1, true);
  whole.setFloat32(36 + 28, 0.25, true);
  whole.setFloat32(36 + 32, 9, true);
  const { particles } = decodeFrame(whole.buffer);
  expect([...particles.get(6)!.weights!]).toEqual([0.25]);
  expect(particles.get(7)!.weights).toBeUndefined();
  expect(particles.get(7)!.places[0]).toBe(9);
});

test("a mesh is read with its normals and UVs, or without", () => {
  const floats = (count: number) => new Float32Array(count).fill(0.5);
  const bytes = (parts: ArrayBufferView[]) =>
    new Uint8Array(parts.flatMap((part) => [...new Uint8Array(part.buffer)])).buffer;
  const counts = new Uint32Array([3, 1]);
  const index = new Uint32Array([0, 1, 2]);
  const shaded = decodeMesh(bytes([counts, floats(9), floats(9), floats(6), index]), true);
  expect(Object.keys(shaded.attributes).sort()).toEqual(["normal", "position", "uv"]);
  expect([...shaded.index!.array]).toEqual([0, 1, 2]);
  const plain = decodeMesh(bytes([counts, floats(9), index]), false);
  expect(plain.getAttribute("position").count).toBe(3);
});

test("backwards what moved one way moves the other, and life goes on", () => {
  const frame = new ViewportFrame();
  const motions = new Int16Array([5, -6, 7, 900]);
  frame.particles.set(3, {
    places: new Float32Array(3),
    sizes: new Float32Array(1),
    ids: new Uint32Array([1]),
    motions,
  });
  expect([...frame.backwards().particles.get(3)!.motions]).toEqual([-5, 6, -7, 900]);
  expect([...motions]).toEqual([5, -6, 7, 900]);
});

test("a mesh that dissolves has its opacities", () => {
  const view = new DataView(new ArrayBuffer(24 + 24 + 12 + 4));
  view.setUint32(20, 1, true);
  view.setUint32(24, 5, true);
  view.setUint32(28, (1 | 0x80000000) >>> 0, true);
  view.setFloat32(60, 0.25, true);
  expect([...decodeFrame(view.buffer).meshes.get(5)!.opacities!]).toEqual([0.25]);
});

test("meshes come after the particles, named by their topology", () => {
  const view = new DataView(new ArrayBuffer(24 + 24 + 24));
  view.setUint32(20, 1, true);
  view.setUint32(24, 5, true);
  view.setUint32(28, 2, true);
  view.setUint8(32, 0xab);
  view.setUint8(47, 0x07);
  view.setFloat32(48 + 16, 3, true);
  const frame = decodeFrame(view.buffer);
  expect(frame.meshes.get(5)!.topology).toBe(`ab${"00".repeat(14)}07`);
  expect([...frame.meshes.get(5)!.places]).toEqual([0, 0, 0, 0, 3, 0]);
  expect([frame.bytes, frame.withoutBodies().meshes.size]).toEqual([24, 1]);
});
