import { expect, test } from "vitest";
import { forecast, newAction, newTrigger, sentence, type ParticleEvent } from "./particles";

const name = (id: number) => ({ 3: "Quay", 4: "Feathers", 5: "Scale", 6: "Front" })[id] ?? "?";
const said = (entry: object) => sentence(entry as ParticleEvent, name);

test("what becomes of particles is read as a sentence", () => {
  expect(said({ trigger: { touch: { bodies: [3] } }, action: { split: { particles: 4, count: 6 } } })).toBe(
    "When it touches Quay, split into 6 of Feathers",
  );
  expect(said({ trigger: { age: { age_s: 0.45 } }, action: { solid: { solid: 5 } } })).toBe(
    "0.45 s after its birth, become a body of Scale",
  );
  expect(said({ trigger: { region: { region: 6 } }, action: { die: {} }, probability: 0.25 })).toBe(
    "When it comes into Front, die; 25 % do",
  );
  expect(
    said({
      trigger: { touch: { bodies: [3, { group: "Set" }], speed_m_s: 2 } },
      action: { become: { particles: 4 } },
    }),
  ).toBe("When it touches Quay or the group Set at 2 m/s or faster, become Feathers");
  expect(
    said({
      trigger: { count: { count: 80 } },
      action: { split: { particles: null, count: 2, stays: true } },
    }),
  ).toBe("Once there are 80, give off 2 of its own");
});

test("nothing begins as what there is nothing for", () => {
  expect(newAction("become", 1, [], [])).toBeNull();
  expect(newAction("solid", 1, [2], [])).toBeNull();
  expect(newAction("trail", 1, [], [])).toEqual({ trail: { particles: 1, per_s: 40 } });
  expect(newTrigger("region", undefined, 4)).toBeNull();
  expect(newTrigger("frame", undefined, 4)).toEqual({ frame: { frame: 4 } });
});

const SECOND = { first: 1, last: 25, fps: 24 };

test.each([
  ["a rate lives as long as its lifespan", { schedule: { rate: { per_s: 100 } } }, { lifespan_s: 0.5 }, 50],
  ["a rate without an end fills the shot", { schedule: { rate: { per_s: 100 } } }, { lifespan_s: null }, 100],
  [
    "a preroll comes before it",
    { schedule: { rate: { per_s: 100 } }, preroll_s: 2 },
    { lifespan_s: null },
    300,
  ],
  [
    "emission end at their last frame",
    { schedule: { rate: { per_s: 100 } }, to_frame: 13 },
    { lifespan_s: 4 },
    50,
  ],
  ["a number is there in parts", { schedule: { total: { count: 80 } } }, { lifespan_s: 0.25 }, 20],
  ["all at once are there at once", { schedule: { burst: { count: 80 } } }, { lifespan_s: 0.25 }, 80],
  ["what is left out is as it begins", {}, {}, 200],
])("%s", (_, emission, start, alive) => {
  const foreseen = forecast({ emission, start } as never, SECOND, false)!;
  expect([foreseen.alive, foreseen.bytes]).toEqual([alive, 13 * alive]);
});

test("nothing is foreseen of what keys or other particles decide", () => {
  expect(forecast({ emission: {} } as never, SECOND, true)).toBeNull();
  expect(forecast({ emission: { schedule: { never: {} } } } as never, SECOND, false)).toBeNull();
});
