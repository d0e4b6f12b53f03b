import { expect, test } from "vitest";
import type { Element } from "../api/client";
import { groupsIn, groupsOf } from "./groups";

test("groups are parted by commas, each once", () => {
  expect(groupsIn(" Cargo, Lamps ,,Cargo ")).toEqual(["Cargo", "Lamps"]);
  expect(groupsIn("")).toEqual([]);
});

test("the groups of a shot are those of its elements, in order", () => {
  const elements = [{ groups: ["Lamps"] }, {}, { groups: ["Cargo", "Lamps"] }] as Element[];
  expect(groupsOf(elements)).toEqual(["Cargo", "Lamps"]);
});
