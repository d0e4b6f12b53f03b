import { expect, test } from "vitest";
import { birthMap, birthMapChoices, birthMapOf } from "./birthMaps";

test("every choice of births is the source that it makes", () => {
  const known = { images: ["deck plan"], colours: true, maps: ["hem", "wet side"], measured: true };
  const choices = birthMapChoices(known).map(([choice]) => choice);
  expect(choices).toContain("map wet side");
  expect(choices).toContain("quantity stretch");
  for (const choice of choices.slice(1)) expect(birthMapOf(birthMap(choice))).toBe(choice);
});

test("what is not there is not offered", () => {
  const choices = birthMapChoices({ images: [], colours: false, maps: [], measured: false });
  expect(choices).toEqual([["", "none"]]);
});

test("a quantity begins with a rising range", () => {
  const source = birthMap("quantity pressure");
  expect("quantity" in source && source.quantity.from < source.quantity.to).toBe(true);
});
