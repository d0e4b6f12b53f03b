import { expect, test } from "vitest";
import { curvesOf, knotsOf } from "./thread";

test("knots outside the shot's frames, or too near to be told apart, are left out", () => {
  const keys = [-3, 1, 1.02, 50, 101, 400].map((frame) => ({ frame, value: frame }));
  const knots = knotsOf([["kind.solid.body.friction", { keys }]], (frame) => frame - 1);
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
