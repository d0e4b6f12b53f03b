import { expect, test } from "vitest";
import { described, pathsWithin } from "../api/described";
import type { Element, NameOf } from "../api/client";
import { addables } from "./addables";
import { ACTIONS, newAction, newTrigger, TRIGGERS, type Action, type Trigger } from "./particles";
import { newSource, placeOf, places } from "./sources";

const others = [
  { id: 3, name: "Quay", kind: { solid: { shape: {}, body: { breaking_impulse_n_s: 5 } } } },
  { id: 4, name: "Rope", kind: { curve: {} } },
  { id: 5, name: "Spray", kind: { particles: {} } },
  { id: 6, name: "Tide", kind: { particles: { liquid: {} } } },
] as unknown as Element[];
const unknown = (value: unknown, at: string) => pathsWithin(value, at).filter((path) => !described(path));

test("every place to be born at can be chosen and is shown as it was chosen", () => {
  const offered = places({ point: {} }, others).map(([place]) => place);
  expect(offered).toEqual(
    expect.arrayContaining(["solid 3", "seam 3", "broken 3", "curve 4", "particles 5", "liquid 6"]),
  );
  for (const place of offered) {
    const source = newSource(place, "surface", false)!;
    expect(placeOf(source)).toBe(place);
    expect(unknown(source, "kind.particles.source")).toEqual([]);
  }
  expect(newSource("shape mesh", "surface", false)).toBeNull();
});

test("what breaks gives birth inside, but on its surface where a map is laid on that", () => {
  expect(newSource("broken 3", "surface", false)).toEqual({ broken: { solid: 3, domain: "volume" } });
  expect(newSource("broken 3", "surface", true)).toEqual({ broken: { solid: 3, domain: "surface" } });
});

test("elements, triggers and actions begin with values that the shot's description has", () => {
  for (const { make } of addables) expect(unknown(make(), "kind")).toEqual([]);
  for (const [kind] of TRIGGERS as [NameOf<Trigger>, string][])
    expect(unknown(newTrigger(kind, 3, 1), "kind.particles.events.0.trigger")).toEqual([]);
  for (const [kind] of ACTIONS as [NameOf<Action>, string][])
    expect(unknown(newAction(kind, 1, [2], [3]), "kind.particles.events.0.action")).toEqual([]);
});
