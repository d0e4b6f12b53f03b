import { expect, test } from "vitest";
import type { Shot, Vector } from "../api/client";
import { longerSide, pointOperations, resized } from "./strokes";

const strokes: Vector[][] = [
  [
    [-1, 0, 0],
    [1, 0.5, 0],
  ],
  [
    [0, -0.5, 0],
    [0, 0, 0],
  ],
];

test("strokes have the longer side of their box, and keep their shape at another", () => {
  expect(longerSide(strokes)).toBe(2);
  const small = resized(strokes, 0.5);
  expect(longerSide(small)).toBe(0.5);
  expect(small[0][1]).toEqual([0.25, 0.125, 0]);
});

test("keys go along with their points, and go with those that are gone", () => {
  const path = (i: number) => `kind.curve.points.points_m.${i}`;
  const channels = { [path(0)]: "a", [path(1)]: "b", [`${path(2)}[1]`]: "c", "placement.position_m": "d" };
  const document = { elements: [{ id: 4, channels }] } as unknown as Shot;
  const points = strokes[0];
  const [first, second] = pointOperations(document, 4, points, (n) => (n === 1 ? null : n > 1 ? n - 1 : n));
  expect(first).toEqual({ op: "add", path: "/elements/0/kind/curve/points/points_m", value: points });
  expect(second.value).toEqual({ [path(0)]: "a", [`${path(1)}[1]`]: "c", "placement.position_m": "d" });
  expect(pointOperations(document, 4, points, (n) => n)).toHaveLength(1);
});
