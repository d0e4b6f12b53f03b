import { expect, test } from "vitest";
import { described, pathsWithin } from "../api/described";
import type { Element, Shot } from "../api/client";
import { asParticles, longestSide, toParticles, toSolids } from "./converting";

const lanterns = {
  id: 4,
  name: "Lanterns",
  placement: { position_m: [0, 1, 0], orientation_rad: [0, 0, 0] },
  kind: {
    solid: {
      shape: { capsule: { radius_m: 0.1, length_m: 0.2 } },
      copies: {
        count: [10, 4, 5],
        spacing_m: [0.4, 0.5, 0.4],
        position_jitter_m: 0,
        orientation_jitter_rad: 0,
        seed: 3,
      },
      body: { weight: { mass_kg: 0.04 } },
    },
  },
} as unknown as Element;

test("particles fill the room of the copies and weigh as much together", () => {
  const made = asParticles(lanterns, 9, "Lanterns as particles")!;
  if (!("particles" in made.kind)) throw new Error("not particles");
  const { source, start, body, emission } = made.kind.particles as unknown as Record<string, never>;
  expect(source).toEqual({ shape: { shape: { box: { size_m: [4, 2, 2], edge_m: 0 } }, domain: "volume" } });
  expect(emission["schedule"]).toEqual({ burst: { count: 20_000 } });
  expect(start["size_m"]).toBeCloseTo(0.4 * Math.cbrt(200 / 20_000), 3);
  expect(20_000 * body["weight"]["mass_kg"]).toBeCloseTo(200 * 0.04, 2);
  expect(pathsWithin(made).filter((path) => !described(path))).toEqual([]);
  expect(made.placement!.position_m).toEqual([0, 1.75, 0]);
});

test("turned back, nothing is left of it", () => {
  const document = { elements: [lanterns] } as unknown as Shot;
  const [mark, added] = toParticles(document, 4);
  expect(mark).toEqual({ op: "add", path: "/elements/0/kind/solid/from_particles", value: 1000 });
  const after = { elements: [lanterns, added.value] } as unknown as Shot;
  expect(toSolids(after, 4)).toEqual([
    { op: "add", path: "/elements/0/kind/solid/from_particles", value: null },
    { op: "remove", path: "/elements/1" },
  ]);
});

test("the longest side of a shape", () => {
  expect(longestSide({ torus: { major_radius_m: 0.4, minor_radius_m: 0.1 } })).toBe(1);
  expect(longestSide({ mesh: { asset: "crate", scale: 1 } })).toBeNull();
});
