import { expect, test } from "vitest";
import type { Element } from "../api/client";
import { addables } from "./addables";
import { parametersOf } from "./parameters";

const element = (kind: Element["kind"]) => ({ id: 1, name: "E", placement: {}, kind }) as unknown as Element;

test.each(addables.map((addable) => [addable.name, addable] as const))(
  "%s has values to be found",
  (_, addable) => {
    const parameters = parametersOf(element(addable.make()));
    expect(parameters.length).toBeGreaterThan(0);
    expect(new Set(parameters.map((p) => p.tab + p.name)).size).toBe(parameters.length);
  },
);

test("what stands nowhere has no place", () => {
  const names = (kind: unknown) => parametersOf(element(kind as Element["kind"])).map((p) => p.name);
  expect(names({ force: { kind: { wind: {} } } })).toContain("Gusts");
  expect(names({ sun: {} })).toContain("Turn");
  expect(names({ sky: {} })).not.toContain("Place");
});
