import { expect, test } from "vitest";
import { find, type Entry } from "./find";

const entries: Entry<number>[] = [
  { name: "Add cone", item: 1 },
  { name: "Friction", also: "Crate stack", item: 2 },
  { name: "Friction", also: "Net floats", item: 3 },
  { name: "Crate stack", item: 4 },
  { name: "Look at the selection", item: 5 },
  { name: "Albedo", also: "Crate stack", item: 6 },
  { name: "Stop computing", item: 7 },
  { name: "Snap to 0.1 m steps", item: 8 },
];
const names = (query: string) => find(query, entries, 10).map((entry) => entry.item);

test("nothing typed lists all, in order", () => {
  expect(find("  ", entries, 3).map((entry) => entry.item)).toEqual([1, 2, 3]);
});

test.each([
  ["friction crate", [2]],
  ["crate friction", [2]],
  ["fric", [2, 3]],
  ["CONE", [1]],
  ["0.1", [8]],
  ["nothing like that", []],
])("%s", (query, expected) => {
  expect(names(query)).toEqual(expected);
});

test("an element comes before its values", () => {
  expect(names("crate stack")[0]).toBe(4);
});

test("a word at its start counts more than inside another", () => {
  expect(names("st")[0]).not.toBe(1);
  expect(names("s").every((item) => item !== 1)).toBe(true);
});

test("no more than asked for are given", () => {
  expect(find("s", entries, 2)).toHaveLength(2);
});
