import { describe, expect, it } from "vitest";
import { startOf } from "./madeAs";

describe("what a solid starts with when it deforms", () => {
  it("has edges and cells by its longest side", () => {
    expect(startOf("cloth", [1.2, 0.8, 0])).toEqual({ edge_m: 0.03 });
    expect(startOf("soft", [0.5, 0.33, 0.5])).toEqual({ cell_m: 0.063, edge_m: 0.031 });
  });
});
