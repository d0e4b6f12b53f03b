import { describe, expect, it } from "vitest";
import { brushed, decodeMap, falloff } from "./mapSurface";

/** A square of two triangles whose corners are given twice. */
function map(): ArrayBuffer {
  const buffer = new ArrayBuffer(8 + 12 * 6 + 12 * 2 + 4 * 6);
  new Uint32Array(buffer, 0, 2).set([6, 2]);
  new Float32Array(buffer, 8, 18).set([0, 0, 0, 1, 0, 0, 1, 0, 1, 0, 0, 0, 1, 0, 1, 0, 0, 1]);
  new Uint32Array(buffer, 80, 6).set([0, 1, 2, 3, 4, 5]);
  new Float32Array(buffer, 104, 6).set([0, 0.5, 1, 0, 1, 0.25]);
  return buffer;
}

describe("a map's surface", () => {
  it("is read with vertices at one place in one group", () => {
    const surface = decodeMap(map());
    expect(surface.topology.groups).toBe(4);
    expect([...surface.topology.smooth]).toEqual([0, 1, 2, 0, 2, 3]);
    expect([...surface.weights]).toEqual([0, 0.5, 1, 0, 1, 0.25]);
    expect(surface.mesh.places).toHaveLength(18);
  });

  it("is brushed by the falloff around the way, within 0 and 1", () => {
    const surface = decodeMap(map());
    const brush = { effect: "add" as const, radius: 0.5, strength: 0.4, softness: 0 };
    const added = brushed(surface, surface.weights, [[1, 0, 1]], brush);
    expect(added[0]).toBe(0);
    expect(added[2]).toBe(1);
    const taken = brushed(surface, surface.weights, [[1, 0, 0.2]], { ...brush, effect: "subtract" });
    expect(taken[1]).toBeCloseTo(0.1);
    expect([...brushed(surface, surface.weights, [[0, 0, 0]], { ...brush, effect: "smooth" })]).toEqual([
      ...surface.weights,
    ]);
    expect([falloff(-1, 1), falloff(0.25, 0.5), falloff(0.6, 0.5)]).toEqual([0, 0.5, 1]);
  });
});
