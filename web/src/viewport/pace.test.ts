import { expect, test } from "vitest";
import { Pace } from "./pace";

function after(costs: number[]): Pace {
  const pace = new Pace();
  for (const cost of costs) pace.drawn(cost);
  return pace;
}

const times = (n: number, cost: number) => Array.from({ length: n }, () => cost);

test("a machine that is quick enough draws sharp, with shadows", () => {
  const pace = after(times(30, 20));
  expect([pace.ratio, pace.shadows]).toEqual([1, true]);
});

test("slow pictures are drawn ever less sharp, at last with shadows as they were", () => {
  expect(after(times(3, 90)).ratio).toBe(0.7);
  const pace = after(times(30, 90));
  expect([pace.ratio, pace.shadows]).toEqual([0.35, false]);
});

test("one slow picture changes nothing", () => {
  expect(after([10, 80, 10, 20, 20, 20]).ratio).toBe(1);
});

test("where there is time left, pictures become sharper again", () => {
  expect(after([...times(6, 90), ...times(30, 3)]).ratio).toBe(1);
});
