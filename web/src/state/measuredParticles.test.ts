import { expect, test } from "vitest";
import { quantities, valuesOf } from "./colouring";
import { MEASURES, lineOf } from "../runs/measures";
import type { MeasuredRun } from "../api/client";

test("values go to the particles that are shown, by their ids", () => {
  const measured = {
    ids: new Uint32Array([2, 5, 9, 12]),
    values: new Float32Array([20, 50, 90, 120]),
    top: 100,
  };
  expect([...valuesOf(new Uint32Array([5, 12]), measured)]).toEqual([50, 120]);
  // One that was not measured has none.
  expect([...valuesOf(new Uint32Array([1, 2, 13]), measured)]).toEqual([0, 20, 0]);
});

test("liquids have quantities of their own, and share some with surfaces", () => {
  const of = (kind: string) =>
    Object.entries(quantities).filter(([, q]) => (q.of as readonly string[]).includes(kind));
  expect(of("liquid").map(([name]) => name)).toEqual(["speed", "pressure", "vorticity", "age"]);
  expect(of("surface").map(([name]) => name)).toContain("stretch");
});

test("the volume kept is plotted in per cent, as whole where there is no liquid yet", () => {
  const run = {
    frames: [1, 2, 3],
    particles: [],
    liquids: [
      { element: 4, volume_kept: [null, 0.98, null], divergence_1_s: [null, 0.5, 0.2], steps: [null, 1, 2] },
      {
        element: 5,
        volume_kept: [null, null, 1.01],
        divergence_1_s: [null, null, 0.1],
        steps: [null, null, 1],
      },
    ],
  } as unknown as MeasuredRun;
  expect(MEASURES.map(({ name }) => name)).toContain("Volume kept");
  const kept = lineOf("Volume kept", run).values;
  expect(kept[0]).toBe(100);
  expect(kept[1]).toBeCloseTo(98, 9);
  expect(kept[2]).toBeCloseTo(101, 9);
  expect(lineOf("Divergence left", run).values).toEqual([0, 0.5, 0.2]);
});
