import { GRID } from "./addables";
import { beforeEach, describe, expect, test, vi } from "vitest";
import type { Element, ShotState } from "../api/client";
import { described, pathsWithin } from "../api/described";
import { atSpeed, moveStep, partAtSpeed, RUN_FRAME, speedWords, STEPS, stepsOf, wordsOf } from "./finishing";
import { shot } from "./shot.svelte";

const span = { first: 1, last: 49 };
let next = 1;
const step = (
  operation: unknown,
  more: { element?: number; order?: number; channels?: Element["channels"] } = {},
) => {
  const { channels, ...finish } = more;
  const id = next++;
  return {
    id,
    name: `Step ${id}`,
    kind: { finish: { operation, ...finish } },
    channels,
  } as unknown as Element;
};
const keys = (channel: ReturnType<typeof atSpeed>["channel"]) =>
  channel.keys!.map((key) => [key.frame, key.value]);

beforeEach(() => {
  next = 1;
  vi.restoreAllMocks();
});

describe("a retiming", () => {
  test("at a constant speed is a straight line", () => {
    const half = atSpeed(span, 0.5);
    expect(half.frames).toBe(97);
    expect(keys(half.channel)).toEqual([
      [1, 1],
      [97, 49],
    ]);
    expect(keys(atSpeed(span, -1).channel)).toEqual([
      [1, 49],
      [49, 1],
    ]);
  });

  test("of a part leaves what is before and after at its speed", () => {
    const slow = partAtSpeed(span, 20, 30, 0.25);
    expect(keys(slow.channel)).toEqual([
      [1, 1],
      [20, 20],
      [60, 30],
      [79, 49],
    ]);
    expect(slow.frames).toBe(79);
  });

  test("of a part that reaches the ends has no keys twice", () => {
    expect(keys(partAtSpeed(span, 1, 60, 0.5).channel)).toEqual([
      [1, 1],
      [97, 49],
    ]);
  });
});

describe("words", () => {
  test.each([
    [0.5, "slow to a half"],
    [0.125, "slow to an eighth"],
    [0.7, "slow to 70 %"],
    [2, "2 times as fast"],
    [-1, "backwards"],
    [-0.5, "backwards, slow to a half"],
  ])("of a speed of %d", (factor, words) => expect(speedWords(factor)).toBe(words));

  test("say what a step does", () => {
    expect(wordsOf(step({ trim: { from_frame: 13, to_frame: 108 } }))).toBe("trim 13–108");
    expect(wordsOf(step({ shift: { frames: -1 } }))).toBe("1 frame earlier");
    expect(wordsOf(step({ loop: { frames: 84, from_frame: 1, overlap: 6 } }))).toBe("loop in 84");
    expect(wordsOf(step({ reverse: {} }))).toBe("reverse");
    expect(wordsOf(step({ subdivide: { scheme: "loop", levels: 2 } }))).toBe("subdivide 2 ×");
    expect(wordsOf(step({ smooth_shape: { passes: 10 } }))).toBe("even out, 10 passes");
    expect(wordsOf(step({ thicken: { thickness_m: 0.0125, offset: 0 } }))).toBe("thicken 12.5 mm");
    expect(wordsOf(step({ blend: { run: 2, weight: 0 } }))).toBe("over to run 2");
    const grid = { ...GRID, count: [4, 1, 3] };
    expect(wordsOf(step({ copies: { grid } }))).toBe("12 copies");
    expect(wordsOf(step({ copies: { grid, delay_frames: -6 } }))).toBe("12 copies, each 6 earlier");
    expect(wordsOf(step({ copies: { grid, delay_jitter_frames: 84 } }))).toBe("12 copies, at random over 84");
    const { channel, frames } = partAtSpeed(span, 20, 30, 0.5);
    const retime = { retime: { frames, run_frame: 1 } };
    expect(wordsOf(step(retime, { channels: { [RUN_FRAME]: channel } }))).toBe("slow to a half, 20–30");
  });
});

test.each(Object.entries(STEPS))("%s begins with values that the file has", (_, { make }) => {
  const { operation, channels } = make(span);
  for (const path of pathsWithin({ finish: { operation } }, "kind")) expect(described(path), path).toBe(true);
  for (const path of Object.keys(channels ?? {})) expect(described(path), path).toBe(true);
});

describe("order", () => {
  const open = (...elements: Element[]) =>
    (shot.state = { id: 1, revision: 1, document: { elements } } as unknown as ShotState);

  test("goes by number, then by id, apart for each element", () => {
    open(
      step({ reverse: {} }, { order: 2 }),
      step({ reverse: {} }, { order: 1 }),
      step({ reverse: {} }, { element: 9 }),
    );
    expect(stepsOf(null).map((e) => e.id)).toEqual([2, 1]);
    expect(stepsOf(9).map((e) => e.id)).toEqual([3]);
  });

  test("changes for all that come between", async () => {
    open(step({ reverse: {} }), step({ reverse: {} }, { order: 1 }), step({ reverse: {} }, { order: 2 }));
    const edit = vi.spyOn(shot, "edit").mockResolvedValue(true);
    await moveStep(stepsOf(null)[2], -9);
    const operations = edit.mock.calls[0][1](shot.document!);
    expect(operations.map((o) => [o.path, o.value])).toEqual([
      ["/elements/2/kind/finish/order", 0],
      ["/elements/0/kind/finish/order", 1],
      ["/elements/1/kind/finish/order", 2],
    ]);
    // The last one goes no further down.
    expect(moveStep(stepsOf(null)[2], 1)).toBeUndefined();
  });
});
