import { describe, expect, test } from "vitest";
import { keyedFrames, keysOf, setAt, valueAt, withChange, withKey, withoutKey } from "./keys";

const a = [1, 0, 0] as [number, number, number];
const b = [2, 0, 0] as [number, number, number];
const c = [3, 0, 0] as [number, number, number];
const keyed = {
  keys: [
    { frame: 5, value: a, then: "smooth" },
    { frame: 9, value: b },
  ],
};

test("a constant has no keys", () => {
  expect(keysOf(a)).toBeNull();
  expect(keysOf(keyed)).toHaveLength(2);
});

test("frames of several values come once each and in order", () => {
  expect(keyedFrames([keyed, a, { keys: [{ frame: 5 }, { frame: 2 }] }])).toEqual([2, 5, 9]);
});

describe("a key at a frame", () => {
  test("makes a constant keyed", () => {
    expect(withKey(a, 3, b)).toEqual({ keys: [{ frame: 3, value: b }] });
  });
  test("takes its place in order", () => {
    expect(withKey(keyed, 7, c).keys.map((key) => key.frame)).toEqual([5, 7, 9]);
  });
  test("that is there already changes its value and keeps how it goes on", () => {
    expect(withKey(keyed, 5, c).keys[0]).toEqual({ frame: 5, value: c, then: "smooth" });
  });
});

describe("without a key", () => {
  test("the others stay", () => {
    expect(withoutKey(keyed, 5)).toEqual({ keys: [{ frame: 9, value: b }] });
  });
  test("that was the last one, the value is constant", () => {
    expect(withoutKey({ keys: [{ frame: 4, value: c }] }, 4)).toEqual(c);
  });
});

describe("a key changed", () => {
  test("in frame moves past others", () => {
    expect(withChange(keyed, 0, { frame: 12 }).keys.map((key) => key.frame)).toEqual([9, 12]);
  });
  test("onto another replaces it, since two keys on one frame cannot be", () => {
    expect(withChange(keyed, 0, { frame: 9 }).keys).toEqual([{ frame: 9, value: a, then: "smooth" }]);
  });
  test("in how it goes on keeps all else", () => {
    expect(withChange(keyed, 1, { then: "hold" }).keys[1]).toEqual({ frame: 9, value: b, then: "hold" });
  });
});

test("a value is set where it is constant and keyed where it is keyed", () => {
  expect(setAt(a, 7, c)).toEqual(c);
  expect(setAt(keyed, 7, c)).toEqual(withKey(keyed, 7, c));
});

test.each([
  [1, a],
  [5, a],
  [8, a],
  [9, b],
  [99, b],
])("at frame %i the last key before it is shown", (frame, value) => {
  expect(valueAt(keyed, frame)).toEqual(value);
});

test("nothing given is changed", () => {
  const before = structuredClone(keyed);
  withKey(keyed, 1, c);
  withoutKey(keyed, 5);
  withChange(keyed, 0, { frame: 20 });
  expect(keyed).toEqual(before);
});
