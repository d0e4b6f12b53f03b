import { beforeEach, expect, test } from "vitest";
import { selection } from "./selection.svelte";

beforeEach(() => {
  selection.none();
  selection.solo = [];
});

test("the last one chosen is foremost", () => {
  selection.only(3);
  selection.toggle(5);
  selection.toggle(4);
  expect(selection.ids).toEqual([3, 5, 4]);
  selection.toggle(5);
  expect(selection.ids).toEqual([3, 4]);
  expect(selection.has(5)).toBe(false);
});

test("elements that are gone are neither selected nor alone", () => {
  selection.set([1, 2, 3]);
  selection.solo = [2, 9];
  selection.keepOnly([2, 3]);
  expect([selection.ids, selection.solo]).toEqual([[2, 3], [2]]);
});

test("solo is added to and taken from", () => {
  selection.toggleSolo(1);
  selection.toggleSolo(2);
  selection.toggleSolo(1);
  expect(selection.solo).toEqual([2]);
});
