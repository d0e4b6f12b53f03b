import { describe, expect, it } from "vitest";
import { colourAt, coloursOf } from "./colouring";

describe("colours of a quantity", () => {
  it("grow lighter along the range and stay at its ends", () => {
    const lightness = [-1, 0, 0.2, 0.4, 0.6, 0.8, 1].map((at) => colourAt(at).reduce((a, b) => a + b));
    expect(lightness[0]).toBe(lightness[1]);
    for (let i = 2; i < lightness.length; i++) expect(lightness[i]).toBeGreaterThan(lightness[i - 1]);
    expect(colourAt(7)).toEqual(colourAt(1));
    expect(colourAt(NaN)).toEqual(colourAt(0));
  });

  it("are linear, three a value, by the top of the range", () => {
    const colours = coloursOf(new Float32Array([0, 0.05, 0.2]), 0.1);
    expect(colours).toHaveLength(9);
    expect(colours[8]).toBeCloseTo(((0.78 + 0.055) / 1.055) ** 2.4, 4);
    expect(colours[0]).toBeLessThan(colours[3]);
  });
});
