import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import type { Element, Operation, Shot } from "../api/client";
import { changeChannels, marks } from "./marks.svelte";
import { playback } from "./playback.svelte";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";

const keys = (...frames: number[]) => ({ keys: frames.map((frame) => ({ frame, value: frame / 10 })) });

const element = (id: number, name: string, channels: object) =>
  ({
    id,
    name,
    placement: {},
    kind: { solid: { shape: {}, body: {}, look: {} } },
    channels,
  }) as unknown as Element;

const document = () =>
  ({
    timing: { fps: 24, first: 1, last: 48 },
    elements: [
      element(1, "Crate", {
        "kind.solid.body.friction": keys(2, 8),
        "placement.position_m[0]": keys(2, 5),
      }),
      element(2, "Float", { "kind.solid.body.restitution": keys(2) }),
    ],
  }) as unknown as Shot;

let made: { label: string; operations: Operation[] } | null = null;
beforeEach(() => {
  made = null;
  shot.id = 1;
  shot.state = { id: 1, revision: 1, project: "", document: document() } as never;
  vi.spyOn(shot, "edit").mockImplementation((label, make) => {
    made = { label, operations: make(document()) };
    return Promise.resolve(true);
  });
  marks.none();
  selection.none();
});
afterEach(() => vi.restoreAllMocks());

const all = (frame: number) => ({ element: 1, path: null, frame });
const framesAt = (path: string) => {
  const operation = made!.operations.find((o) => o.path.endsWith(path))!;
  return (operation.value as { keys: { frame: number }[] }).keys.map((key) => key.frame);
};

describe("choosing", () => {
  test("one takes the place of another, with Shift it is added or taken away", () => {
    marks.pick(all(2), false);
    marks.pick(all(8), false);
    expect(marks.list).toEqual([all(8)]);
    marks.pick(all(2), true);
    expect(marks.frames).toEqual([2, 8]);
    marks.pick(all(8), true);
    expect(marks.list).toEqual([all(2)]);
  });
  test("one of several leaves them chosen, so that they can be dragged together", () => {
    marks.list = [all(2), all(8)];
    marks.pick(all(2), false);
    expect(marks.list).toHaveLength(2);
  });
});

describe("what is done with chosen keys", () => {
  test("reaches every value that has a key at the frame", async () => {
    marks.list = [all(2)];
    await marks.nudge(1);
    expect(framesAt("friction")).toEqual([3, 8]);
    expect(framesAt("position_m[0]")).toEqual([3, 5]);
    expect(marks.list).toEqual([all(3)]);
    expect(made!.label).toBe("Keys of Crate moved");
  });
  test("reaches one value only where that is meant", async () => {
    marks.list = [{ element: 1, path: "kind.solid.body.friction", frame: 2 }];
    await marks.nudge(-1);
    expect(made!.operations).toHaveLength(1);
    expect(framesAt("friction")).toEqual([1, 8]);
    expect(made!.label).toBe("Keys of friction of Crate moved");
  });
  test("stretches about the first, and to whole frames", async () => {
    marks.list = [all(2), all(5), all(8)];
    await marks.scale(0.5);
    expect(framesAt("friction")).toEqual([2, 5]);
    expect(framesAt("position_m[0]")).toEqual([2, 4]);
  });
  test("repeats after the last", async () => {
    marks.list = [all(2), all(8)];
    await marks.repeat();
    expect(framesAt("friction")).toEqual([2, 8, 14]);
  });
  test("sets how they go on", async () => {
    marks.list = [all(2)];
    await marks.go("ease_in");
    const value = made!.operations[0].value as { keys: { interpolation?: string }[] };
    expect(value.keys.map((key) => key.interpolation)).toEqual(["ease_in", undefined]);
    expect(made!.label).toBe("Keys of Crate go on ease in");
  });
  test("does nothing without any", async () => {
    expect(await marks.nudge(1)).toBe(false);
    expect(made).toBeNull();
  });
});

test("a value whose last key is removed stays as that had it", async () => {
  marks.list = [{ element: 2, path: null, frame: 2 }];
  await marks.remove();
  expect(made!.operations).toEqual([
    { op: "remove", path: "/elements/1/channels/kind.solid.body.restitution" },
    { op: "add", path: "/elements/1/kind/solid/body/restitution", value: 0.2 },
  ]);
  expect(marks.list).toEqual([]);
});

test("two values that lose their last keys leave no channel behind", () => {
  const operations = changeChannels(
    { ...document(), elements: [element(1, "Crate", { a: keys(2), b: keys(2) })] } as Shot,
    [all(2)],
    () => null,
  );
  expect(operations.filter((o) => o.op === "remove").map((o) => o.path)).toEqual([
    "/elements/0/channels/a",
    "/elements/0/channels/b",
  ]);
});

describe("copied keys", () => {
  test("are put at the frame shown, as far apart as they were", async () => {
    marks.list = [all(2), all(8)];
    marks.copy();
    playback.frame = 20;
    await marks.paste();
    expect(framesAt("friction")).toEqual([2, 8, 20, 26]);
    expect(framesAt("position_m[0]")).toEqual([2, 5, 20]);
  });
  test("go to the one other element that is selected", async () => {
    marks.list = [{ element: 1, path: "kind.solid.body.friction", frame: 8 }];
    marks.copy();
    selection.only(2);
    playback.frame = 30;
    await marks.paste();
    expect(made!.operations).toEqual([
      {
        op: "add",
        path: "/elements/1/channels/kind.solid.body.friction",
        value: { expression: undefined, keys: [{ frame: 30, value: 0.8 }] },
      },
    ]);
  });
});

test("curves are opened and closed", () => {
  marks.toggleOpen(1);
  marks.toggleOpen(2);
  marks.toggleOpen(1);
  expect(marks.open).toEqual([2]);
  marks.toggleOpen(2);
});
