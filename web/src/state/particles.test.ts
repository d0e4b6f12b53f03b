import { expect, test } from "vitest";
import { newThen, newWhen, sentence, type Becoming } from "./particles";

const name = (id: number) => ({ 3: "Quay", 4: "Feathers", 5: "Scale", 6: "Front" })[id] ?? "?";
const said = (entry: object) => sentence(entry as Becoming, name);

test("what becomes of particles is read as a sentence", () => {
  expect(said({ when: { touch: { of: [3] } }, then: { split: { of: 4, number: 6 } } })).toBe(
    "When it touches Quay, split into 6 of Feathers",
  );
  expect(said({ when: { age: { s: 0.45 } }, then: { solid: { of: 5 } } })).toBe(
    "0.45 s after its birth, become a body of Scale",
  );
  expect(said({ when: { region: { region: 6 } }, then: { die: {} }, share: 0.25 })).toBe(
    "When it comes into Front, die; 25 % do",
  );
  expect(
    said({ when: { touch: { of: [3, { group: "Set" }], speed_m_s: 2 } }, then: { become: { of: 4 } } }),
  ).toBe("When it touches Quay or the group Set at 2 m/s or faster, become Feathers");
  expect(
    said({ when: { count: { number: 80 } }, then: { split: { of: null, number: 2, stays: true } } }),
  ).toBe("Once there are 80, give off 2 of its own");
});

test("nothing begins as what there is nothing for", () => {
  expect(newThen("become", 1, [], [])).toBeNull();
  expect(newThen("solid", 1, [2], [])).toBeNull();
  expect(newThen("trail", 1, [], [])).toEqual({ trail: { of: 1, per_s: 40 } });
  expect(newWhen("region", undefined, 4)).toBeNull();
  expect(newWhen("frame", undefined, 4)).toEqual({ frame: { frame: 4 } });
});
