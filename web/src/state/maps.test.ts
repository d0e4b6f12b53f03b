import { describe, expect, it } from "vitest";
import type { Element, Solid } from "../api/client";
import { birthsByMap, mapNamed, SOURCE_NAMES, startOfSource, withoutMap } from "./maps";

const solid = {
  shape: {},
  maps: [
    { name: "seam", layers: [] },
    { name: "soft", layers: [] },
  ],
  cloth: {
    pins: [{ part: { map: "seam" }, holds: true }, { part: { side: "left" } }],
    scaled: [
      { quantity: "bending", map: "soft", at_0: 1, at_1: 2 },
      { quantity: "shear", map: "seam", at_0: 1, at_1: 2 },
    ],
  },
} as unknown as Solid;

describe("maps", () => {
  it("are renamed wherever they are named", () => {
    const next = mapNamed(solid, 0, "stitches");
    expect(next.maps!.map((map) => map.name)).toEqual(["stitches", "soft"]);
    expect(next.cloth!.pins!.map((pin) => pin.part)).toEqual([{ map: "stitches" }, { side: "left" }]);
    expect(next.cloth!.scaled!.map((factor) => factor.map)).toEqual(["soft", "stitches"]);
  });

  it("take pins and factors with them when they are deleted", () => {
    const next = withoutMap(solid, 0);
    expect(next.maps).toHaveLength(1);
    expect(next.cloth!.pins).toEqual([{ part: { side: "left" } }]);
    expect(next.cloth!.scaled!.map((factor) => factor.map)).toEqual(["soft"]);
  });

  it("are renamed and deleted in tears, sway and looks too", () => {
    const everywhere = {
      ...solid,
      cloth: { tear_map: "seam" },
      sway: { map: "seam" },
      look: { layers: [{ by: { map: { map: "seam" } } }, { by: { viewing_angle: {} } }] },
    } as unknown as Solid;
    const named = mapNamed(everywhere, 0, "hem");
    expect([named.cloth!.tear_map, named.sway!.map]).toEqual(["hem", "hem"]);
    expect(named.look!.layers![0].by).toEqual({ map: { map: "hem" } });
    const without = withoutMap(everywhere, 0);
    expect([without.cloth!.tear_map, without.sway!.map]).toEqual([null, null]);
    expect(without.look!.layers).toHaveLength(1);
  });

  it("are renamed and deleted in the births of particles", () => {
    const births = (map: unknown) => ({
      kind: { particles: { source: { solid: { solid: 4 } }, emission: { map } } },
    });
    const elements = [
      { kind: { solid } },
      births({ source: { map: { map: "seam" } }, inverted: true }),
      births({ source: { vertices: {} } }),
    ] as unknown as Element[];
    const path = "/elements/1/kind/particles/emission/map";
    const renamed = { source: { map: { map: "hem" } }, inverted: true };
    expect(birthsByMap(elements, 4, "seam", "hem")).toEqual([{ op: "add", path, value: renamed }]);
    expect(birthsByMap(elements, 4, "seam", null)).toEqual([{ op: "add", path, value: null }]);
    expect(birthsByMap(elements, 5, "seam", null)).toEqual([]);
  });

  it("begin each source with what it needs", () => {
    for (const kind of Object.keys(SOURCE_NAMES)) {
      const start = startOfSource(kind, { region: 1, curve: 2, image: "a", group: "b" })[kind];
      expect(Object.values(start as object)).not.toContain(undefined);
    }
  });
});
