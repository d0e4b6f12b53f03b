import { expect, test } from "vitest";
import type { MeasuredRun } from "../api/client";
import { extentOf, lineOf } from "./measures";

const run = {
  frames: [1, 2, 3],
  max_speed_m_s: [0, 2, 1],
  deepest_overlap_m: [0, 0.004, 0],
  particles: [
    { element: 3, alive: [1, 2, 3], born: [], gone: [] },
    { element: 4, alive: [0, 10, 0], born: [], gone: [] },
  ],
} as unknown as MeasuredRun;

test("a measurement is a line over the run's frames, in the unit it is read in", () => {
  expect(lineOf("Fastest body", run)).toEqual({ frames: [1, 2, 3], values: [0, 2, 1] });
  expect(lineOf("Deepest overlap", run).values).toEqual([0, 4, 0]);
  expect(lineOf("Particles", run).values).toEqual([1, 12, 3]);
  expect(lineOf("Particles", { ...run, particles: [] }).values).toEqual([0, 0, 0]);
});

test("lines of several runs share their ends; a line along one value has a height", () => {
  const other = { frames: [3, 4], values: [-1, 7] };
  expect(extentOf([lineOf("Fastest body", run), other])).toEqual({ first: 1, last: 4, low: -1, high: 7 });
  expect(extentOf([{ frames: [1], values: [0] }])).toEqual({ first: 1, last: 1, low: 0, high: 1 });
  expect(extentOf([])).toEqual({ first: 1, last: 1, low: 0, high: 1 });
});
