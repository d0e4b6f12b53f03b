import { describe, expect, it } from "vitest";
import { choiceOf, chosenWeight, newLayer, rangeUnit, weightChoices } from "./lookLayers";

describe("layers of a look", () => {
  it("begin with a weight of each choice", () => {
    for (const [choice] of weightChoices(["hem of it"], true)) {
      const made = chosenWeight(choice);
      expect(choiceOf(made.by!)).toBe(choice);
      expect(made.from).toBeLessThan(made.to!);
    }
  });

  it("have quantities only where something is measured", () => {
    const rigid = weightChoices([], false).map(([choice]) => choice);
    expect(rigid).toEqual(["viewing_angle", "crevices", "noise"]);
    expect(weightChoices([], false, false).map(([choice]) => choice)).toEqual(["viewing_angle", "birth_map"]);
  });

  it("show their range in the unit of the quantity", () => {
    expect(rangeUnit({ quantity: { quantity: "stretch" } })).toEqual({ unit: "%", scale: 100 });
    expect(rangeUnit({ noise: { size_m: 1, seed: 1 } })).toEqual({ unit: "", scale: 1 });
  });

  it("take over what they do not change", () => {
    const layer = newLayer({ albedo: [1, 0.5, 0], roughness: 0.2, transmission: 0.9 });
    expect(layer).toMatchObject({ albedo: [0.35, 0.175, 0], roughness: 0.2, transmission: 0.9 });
  });
});
