import { describe, expect, it } from "vitest";
import type { Solid } from "../api/client";
import { mapNamed, SOURCE_NAMES, startOfSource, withoutMap } from "./maps";

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

  it("begin each source with what it needs", () => {
    for (const kind of Object.keys(SOURCE_NAMES)) {
      const start = startOfSource(kind, { region: 1, curve: 2, image: "a" })[kind];
      expect(Object.values(start as object)).not.toContain(undefined);
    }
  });
});
