import { expect, test } from "vitest";
import { finer, forecastWords } from "./resolution";

test("edges go by the square root of the number of vertices, cells by the cube root", () => {
  expect(finer("cloth", 1000, 4000)).toBeCloseTo(0.5);
  expect(finer("soft", 1000, 8000)).toBeCloseTo(0.5);
  expect(finer("cloth", 500, 500)).toBe(1);
});

test("a forecast is said in a unit that suits it", () => {
  expect(forecastWords(0.0421, 100)).toBe("About 42 ms a frame, 4.2 s in all.");
  expect(forecastWords(3.26, 240)).toContain("3.3 s a frame, 13 min");
  expect(forecastWords(60, 240)).toContain("60 s a frame, 4 h");
});
