import { beforeEach, expect, test, vi } from "vitest";
import { lanes, threads } from "./scale.svelte";
import { playback } from "./playback.svelte";

beforeEach(() => {
  vi.restoreAllMocks();
  vi.spyOn(playback, "first", "get").mockReturnValue(1);
  vi.spyOn(playback, "last", "get").mockReturnValue(9);
});

test("a thread is as long as the shot, a lane leaves room at both ends", () => {
  expect([threads.at(1), threads.at(5), threads.at(9)]).toEqual([0, 50, 100]);
  expect([lanes.at(1), lanes.at(9)]).toEqual([1, 97]);
});

test("places and frames are each other's inverse, and pixels are frames", () => {
  for (const scale of [lanes, threads]) expect(scale.frameAt(scale.at(6.5))).toBeCloseTo(6.5);
  expect(threads.perPixel(80)).toBeCloseTo(0.1);
  expect(lanes.perPixel(100) * 96).toBeCloseTo(8);
});

test("a shot of one frame has a scale too", () => {
  vi.spyOn(playback, "last", "get").mockReturnValue(1);
  expect([threads.at(1), threads.span]).toEqual([0, 1]);
});
