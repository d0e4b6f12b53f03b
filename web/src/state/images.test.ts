import { mappable } from "./sources";
import { expect, test } from "vitest";
import type { Element, Shot } from "../api/client";
import { backdrop } from "./images.svelte";

const particles = (source: object) => ({ kind: { particles: { source } } }) as unknown as Element;

test("a map of births is for particles that are born on a surface or a grid", () => {
  expect(mappable(particles({ grid: { count: [2, 1, 2] } }))).toBe(true);
  expect(mappable(particles({ solid: { solid: 3, domain: "surface" } }))).toBe(true);
  expect(mappable(particles({ solid: { solid: 3, domain: "volume" } }))).toBe(false);
  expect(mappable(particles({ point: {} }))).toBe(false);
  expect(mappable({ kind: { sun: {} } } as unknown as Element)).toBe(false);
});

test("a backdrop goes with the camera, covers its gate, and follows its lens by formulas", () => {
  const document = {
    camera: 2,
    picture: { width: 1600, height: 900 },
    elements: [{ id: 2, name: "Pier camera", kind: { camera: {} } }],
  } as unknown as Shot;
  // Twice as wide as high, in a gate of 16 to 9: as high as the gate, and wider.
  const [{ value }] = backdrop(document, { name: "far", aspect: 2 }, 5);
  const made = value as { attached: object; channels: Record<string, { expression: string }> };
  expect(made.attached).toEqual({ to: 2 });
  const [across, up] = Object.values(made.channels).map(({ expression }) => expression);
  expect(across).toBe("1.125 * -{Backdrop.position.z} * {Pier camera.sensor} / {Pier camera.focal_length}");
  expect(up).toBe("0.5625 * -{Backdrop.position.z} * {Pier camera.sensor} / {Pier camera.focal_length}");
});
