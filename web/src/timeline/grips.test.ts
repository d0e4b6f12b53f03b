import { expect, test } from "vitest";
import { dragged, handleOf } from "./grips";
import type { Channel } from "../state/keys";

const line: Channel = {
  keys: [
    { frame: 1, value: [0, 6, 0], interpolation: "free" },
    { frame: 13, value: [3, 0, 0], interpolation: "linear" },
  ],
};

test("a handle that is not set lies a third of the way to the next key", () => {
  expect(handleOf(line.keys!, 0, "outgoing")).toEqual({ frames: 4, value: [1, -2, 0] });
  expect(handleOf(line.keys!, 1, "incoming")).toEqual({ frames: 4, value: [-1, 2, -0] });
  expect(handleOf(line.keys!, 1, "outgoing")).toBeNull();
});

test("a key is dragged to a whole frame, and only the part that was taken hold of changes", () => {
  const next = dragged(line, { key: 1, part: 1 }, 2.4, 0.50004);
  expect(next.keys![1]).toMatchObject({ frame: 15, value: [3, 0.5, 0] });
  expect(next.keys![0]).toEqual(line.keys![0]);
});

test("a handle is dragged away from its key, not past it", () => {
  const away = dragged(line, { key: 0, part: 0, side: "outgoing" }, 2, 1);
  expect(away.keys![0].outgoing).toEqual({ frames: 6, value: [2, -2, 0] });
  const past = dragged(line, { key: 1, part: 0, side: "incoming" }, 9, 0);
  expect(past.keys![1].incoming!.frames).toBe(0);
});

test("a switch keeps its value when its key is dragged", () => {
  const channel: Channel = { keys: [{ frame: 3, value: true }] };
  expect(dragged(channel, { key: 0, part: 0 }, 1, 5).keys![0]).toMatchObject({ frame: 4, value: true });
});
