import { expect, test } from "vitest";
import { along, curvesOf, knotsOf } from "./thread";

test("a thread is as long as the shot", () => {
  expect([along(1, 1, 9), along(5, 1, 9), along(9, 1, 9)]).toEqual([0, 50, 100]);
  expect(along(3, 3, 3)).toBe(0);
});

test("knots outside the shot's frames, or too near to be told apart, are left out", () => {
  const keys = [-3, 1, 1.02, 50, 101, 400].map((frame) => ({ frame, value: frame }));
  const knots = knotsOf([["kind.solid.body.friction", { keys }]], 1, 101);
  expect(knots.map((knot) => knot.frame)).toEqual([1, 50, 101]);
});

test("each part has its own scale, and one that does not change is a line in the middle", () => {
  expect(
    curvesOf([
      [0, 2],
      [7, 7],
    ]),
  ).toEqual(["0.00,18.00 100.00,2.00", "0.00,10.00 100.00,10.00"]);
});
