import { describe, expect, test } from "vitest";
import type { Element } from "../api/client";
import {
  keyedFrames,
  keysOf,
  withChange,
  withConstantSpeed,
  withFrames,
  withKey,
  withKeys,
  withMirrored,
  withThen,
  withoutKey,
  type Channel,
} from "./keys";

const a = [1, 0, 0];
const b = [2, 0, 0];
const c = [3, 0, 0];
const keyed: Channel = {
  after: "repeat",
  keys: [
    { frame: 5, value: a, interpolation: "smooth" },
    { frame: 9, value: b },
  ],
};
const frames = (channel: Channel | null) => keysOf(channel ?? undefined).map((key) => key.frame);
const at = (...list: [number, number][]): Channel => ({
  keys: list.map(([frame, value]) => ({ frame, value })),
});

test("frames of several values come once each and in order", () => {
  const channels = { place: keyed, friction: at([5, 0], [2, 1]), restitution: { expression: "time" } };
  expect(keyedFrames({ channels } as unknown as Element)).toEqual([2, 5, 9]);
  expect(keyedFrames({} as Element)).toEqual([]);
});

describe("a key at a frame", () => {
  test("makes a constant keyed, and takes the place of a formula", () => {
    expect(withKey(undefined, 3, b).keys).toEqual([{ frame: 3, value: b }]);
    expect(withKey({ expression: "time" }, 3, 1).expression).toBeUndefined();
  });
  test("takes its place in order", () => {
    expect(frames(withKey(keyed, 7, c))).toEqual([5, 7, 9]);
  });
  test("that is there already changes its value and keeps how it goes on", () => {
    expect(withKey(keyed, 5, c).keys![0]).toEqual({ frame: 5, value: c, interpolation: "smooth" });
  });
  test("leaves what is outside the keys as it is", () => {
    expect(withKey(keyed, 7, c).after).toBe("repeat");
  });
});

describe("without a key", () => {
  test("the others stay", () => {
    expect(frames(withoutKey(keyed, 5))).toEqual([9]);
  });
  test("that was the last one, there is no channel", () => {
    expect(withoutKey(at([4, 3]), 4)).toBeNull();
  });
});

describe("a key changed", () => {
  test("in frame moves past others", () => {
    expect(frames(withChange(keyed, 0, { frame: 12 }))).toEqual([9, 12]);
  });
  test("onto another replaces it, since two keys on one frame cannot be", () => {
    expect(withChange(keyed, 0, { frame: 9 }).keys).toEqual([
      { frame: 9, value: a, interpolation: "smooth" },
    ]);
  });
  test("in how it goes on keeps all else", () => {
    expect(withChange(keyed, 1, { interpolation: "hold" }).keys![1]).toEqual({
      frame: 9,
      value: b,
      interpolation: "hold",
    });
    expect(withThen(keyed, [5, 9], "ease").keys!.map((key) => key.interpolation)).toEqual(["ease", "ease"]);
  });
});

describe("several keys moved", () => {
  const four = at([1, 0], [4, 1], [8, 2], [12, 3]);
  test("keep their distances, and take the place of those they meet", () => {
    expect(withFrames(four, [1, 4], (frame) => frame + 4).keys).toEqual([
      { frame: 5, value: 0 },
      { frame: 8, value: 1 },
      { frame: 12, value: 3 },
    ]);
  });
  test("onto one frame leave the later one", () => {
    expect(withFrames(four, [4, 8], () => 6).keys![1]).toEqual({ frame: 6, value: 2 });
  });
  test("past others change the order", () => {
    expect(withFrames(four, [1], () => 10).keys!.map((key) => key.value)).toEqual([1, 2, 0, 3]);
  });
});

test("mirrored keys go on as they were led to", () => {
  const channel: Channel = {
    keys: [
      { frame: 1, value: 0, interpolation: "ease_in" },
      { frame: 3, value: 1, interpolation: "hold" },
      { frame: 9, value: 2, interpolation: "linear" },
    ],
  };
  expect(withMirrored(channel, [1, 3, 9], 1, 9).keys).toMatchObject([
    { frame: 1, value: 2, interpolation: "hold" },
    { frame: 7, value: 1, interpolation: "ease_out" },
    { frame: 9, value: 0, interpolation: "ease_out" },
  ]);
});

test("keys put in take the place of those at their frames", () => {
  const put = withKeys(at([1, 0], [5, 1]), [
    { frame: 5, value: 7 },
    { frame: 3, value: 8 },
  ]);
  expect(put.keys!.map((key) => [key.frame, key.value])).toEqual([
    [1, 0],
    [3, 8],
    [5, 7],
  ]);
});

describe("constant speed", () => {
  test("spaces keys by the way between their values", () => {
    const uneven = at([1, 0], [2, 1], [9, 4], [20, 9]);
    expect(frames(withConstantSpeed(uneven, [1, 9]))).toEqual([1, 3, 9, 20]);
    expect(
      withConstantSpeed(uneven, [1, 9])
        .keys!.slice(0, 2)
        .map((key) => key.interpolation),
    ).toEqual(["linear", "linear"]);
  });
  test("goes by distance in space", () => {
    const place: Channel = {
      keys: [
        { frame: 1, value: [0, 0, 0] },
        { frame: 2, value: [3, 4, 0] },
        { frame: 11, value: [3, 9, 0] },
      ],
    };
    expect(frames(withConstantSpeed(place, [1, 2, 11]))).toEqual([1, 6, 11]);
  });
  test("leaves what does not move", () => {
    const still = at([1, 2], [5, 2]);
    expect(withConstantSpeed(still, [1, 5])).toBe(still);
  });
});

test("nothing given is changed", () => {
  const before = structuredClone(keyed);
  withKey(keyed, 1, c);
  withoutKey(keyed, 5);
  withChange(keyed, 0, { frame: 20 });
  withFrames(keyed, [5], (frame) => frame + 1);
  withMirrored(keyed, [5, 9], 5, 9);
  expect(keyed).toEqual(before);
});
