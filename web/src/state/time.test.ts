import { expect, test, vi } from "vitest";
import { ago, bytes, spoken } from "./time";

test.each([
  [0.2, "under a second"],
  [1.4, "1 s"],
  [89, "89 s"],
  [90, "2 min"],
  [5000, "83 min"],
  [9000, "2.5 h"],
  [Infinity, ""],
  [NaN, ""],
])("%d seconds are said as “%s”", (seconds, words) => {
  expect(spoken(seconds)).toBe(words);
});

test.each([
  [0, "1 kB"],
  [840_000, "840 kB"],
  [22_400_000, "22.4 MB"],
  [3_210_000_000, "3.21 GB"],
])("%d bytes are said as “%s”", (count, words) => {
  expect(bytes(count)).toBe(words);
});

test("times past are said from now", () => {
  vi.useFakeTimers({ now: 1_000_000_000 });
  const now = 1_000_000;
  expect(ago(now - 5)).toBe("just now");
  expect(ago(now - 600)).toBe("10 min ago");
  expect(ago(now - 7200)).toBe("2 h ago");
  expect(ago(now - 900_000)).toMatch(/\d/);
  vi.useRealTimers();
});
