import { expect, test } from "vitest";
import type { Element, Schemas } from "../api/client";
import { apartWords, spacingWords, verdict, withSpacings } from "./enough";

const size = (spacing_m: number, pixels: number | null, delay_frames: number | null) =>
  ({ factor: 1, spacing_m, particles: 1000, seconds_a_frame: 1, pixels, delay_frames }) as Schemas["Size"];

test("sizes are told with what they differ by", () => {
  expect(spacingWords(size(0.014_142, null, null))).toBe("14.1 mm");
  expect(apartWords(size(0.01, 3.14, 0.42))).toBe("3.1 pixels off the next, 0.4 frames late.");
  expect(apartWords(size(0.01, 0.2, -1.26))).toBe("0.2 pixels off the next, 1.3 frames early.");
  expect(apartWords(size(0.01, 0.2, -0.04))).toBe("0.2 pixels off the next, on time.");
  expect(apartWords(size(0.01, null, null))).toBe("The shot as it is.");
});

test("the smallest that is enough is named, or none", () => {
  const sizes = [size(0.02, 9, 2), size(0.014, 1, 0), size(0.01, null, null)];
  expect(verdict({ sizes, enough: 1 })).toContain("14 mm is enough");
  expect(verdict({ sizes, enough: null })).toContain("smaller spacing");
});

test("a size is that of all liquids", () => {
  const elements = [
    { kind: { particles: { liquid: { spacing_m: 0.02 } } } },
    { kind: { particles: {} } },
    { kind: { particles: { liquid: {} } } },
    { kind: { camera: {} } },
  ] as unknown as Element[];
  expect(withSpacings(elements, Math.SQRT2)[0].value).toBe(0.0283);
  expect(withSpacings(elements, 2).map(({ path, value }) => [path, value])).toEqual([
    ["/elements/0/kind/particles/liquid/spacing_m", 0.04],
    ["/elements/2/kind/particles/liquid/spacing_m", 0.04],
  ]);
});
