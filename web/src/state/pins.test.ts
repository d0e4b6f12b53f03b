import { describe, expect, it } from "vitest";
import type { Element, Solid } from "../api/client";
import { partNamed, partOptions, pinPart, withGroupMap } from "./pins";

describe("parts of pins", () => {
  it("are the same by their choice", () => {
    const point = { point: { position_m: [1, 2, 3], radius_m: 0.1 } };
    const regions = [{ id: 7, name: "Sweep" } as Element];
    const options = partOptions(regions, [{ name: "mark of the sail", layers: [], blur_m: 0 }]);
    for (const [choice] of options) expect(partNamed(pinPart(choice, point))).toBe(choice);
    expect(pinPart("point", point)).toEqual(point);
    expect(pinPart("map mark of the sail")).toEqual({ map: "mark of the sail" });
    expect(options.map(([, words]) => words)).toContain("what is in Sweep");
  });

  it("hold a group of faces by a map of it, which is made once", () => {
    const solid = { shape: {}, maps: [{ name: "hem", layers: [], blur_m: 0 }] } as unknown as Solid;
    const [first, name] = withGroupMap(solid, "hem");
    expect([first.maps!.length, name]).toEqual([2, "hem 2"]);
    expect(withGroupMap(first, "hem")).toEqual([first, "hem 2"]);
  });
});
