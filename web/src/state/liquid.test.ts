import { expect, test } from "vitest";
import type { Particles } from "../api/client";
import { asGrains, asLiquid, firstFactor, liquidOf, weightName, weightNamed, weightOptions } from "./liquid";

test("grains become a liquid whose spacing is their size, at rest among themselves", () => {
  const grains = { start: { size_m: 0.05, speed_m_s: 2, spread_rad: 1 }, body: { drag: 0.5 } } as Particles;
  const liquid = asLiquid(grains);
  expect(liquid.liquid).toEqual({ spacing_m: 0.05 });
  expect(liquid.start).toMatchObject({ speed_m_s: 2, spread_rad: 0, speed_variation: 0, lifespan_s: null });
  expect(liquid.body).toMatchObject({ drag: 0 });
});

test("a liquid as grains comes by a number, since only a liquid fills and flows", () => {
  const block = liquidOf({ point: {} }, { fill: {} }, 0.02) as Particles;
  expect(asGrains(block)).toMatchObject({ liquid: null, emission: { schedule: { rate: { per_s: 200 } } } });
  const some = { ...block, emission: { schedule: { burst: { count: 7 } } } } as Particles;
  expect(asGrains(some).emission?.schedule).toEqual({ burst: { count: 7 } });
});

test("a weight is named by its region, or as the map of the source, which is offered if there is one", () => {
  const regions: [string, string][] = [["7", "Warm side"]];
  expect(weightOptions(regions, false)).toEqual(regions);
  for (const [name] of weightOptions(regions, true)) expect(weightName(weightNamed(name))).toBe(name);
  expect(firstFactor("7").by).toEqual({ region: { region: 7 } });
});
