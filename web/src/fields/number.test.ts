import { expect, test } from "vitest";
import { shownNumber } from "./number";

test.each([
  [Math.PI, 180 / Math.PI, false, "180"],
  [1.23456789, 1, false, "1.2346"],
  [null, 1, false, ""],
  [0, 1, true, "0"],
  [-12345.678, 1, true, "-12346"],
  [0.000123456, 1, true, "0.00012"],
])("%s times %s is shown as %s", (value, scale, narrow, text) => {
  expect(shownNumber(value, scale, narrow)).toBe(text);
});
