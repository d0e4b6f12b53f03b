import { expect, test } from "vitest";
import { described } from "../api/described";
import { nameOf } from "./channels";
import { declared, declaredBelow, declaredPaths } from "./declared";

test("every declared path is one of the shot's description", () => {
  expect(declaredPaths.length).toBeGreaterThan(200);
  const ofElements = declaredPaths.filter((path) => !/^(timing|physics)\./.test(path));
  expect(ofElements.filter((path) => !described(path.replaceAll("*", "0")))).toEqual([]);
});

test("a part, a point and a place in a list have the declaration of the whole", () => {
  expect(declared("placement.position_m[1]")?.unit).toBe("m");
  expect(declared("kind.curve.points.points_m.12[0]")?.label).toBe("Point");
  expect(declared("kind.particles.events.3.action.split.speed_m_s")?.unit).toBe("m/s");
  expect(declared("kind.solid.body.frictoin")).toBeUndefined();
});

test("rows come in the order of the declarations, of one level only", () => {
  const rows = declaredBelow("kind.force.kind.wind").map((path) => declared(path)!.label);
  expect(rows).toEqual(["Speed", "Gusts", "Gust length", "Eddies", "Eddy size", "Seed"]);
  expect(declaredBelow("kind.force.kind.half")).toEqual([]);
});

test.each([
  ["kind.solid.body.restitution", "Bounce"],
  ["kind.area_light.size_m[1]", "Size z"],
  ["kind.solid.look.emission[2]", "Emission blue"],
  ["kind.curve.points.points_m.4[1]", "Point 5 y"],
  ["kind.nobody.knows", "kind.nobody.knows"],
])("%s is called %s", (path, name) => expect(nameOf(path)).toBe(name));

test("angles are shown in degrees and small lengths in millimetres", () => {
  const turn = declared("placement.orientation_rad")!;
  expect([turn.unit, Math.round(Math.PI * turn.scale!)]).toEqual(["°", 180]);
  expect(declared("kind.solid.body.margin_m")).toMatchObject({
    unit: "mm",
    scale: 1000,
    blank: "by its size",
  });
});
