import { beforeEach, describe, expect, test, vi } from "vitest";
import { api, type Freshness, type ShotState, type Stretch } from "../api/client";
import { playback } from "./playback.svelte";
import { shot } from "./shot.svelte";
import { shown } from "./shown.svelte";

const stretch = (first: number, last: number, state: Stretch["state"], reason: string | null = null) =>
  ({ first, last, state, reason }) as Stretch;

const solids = (stretches: Stretch[]) => ({
  system: "solids",
  name: "solids",
  elements: [4],
  reads: [],
  stretches,
});

function fresh(stretches: Stretch[], playing = false): Freshness {
  return { run: 4, stretches, systems: [solids(stretches)], playing, frame_bytes: 10, state_bytes: 0 };
}

/** A frame of one element without bodies, after the 16 bytes that name the run and the wish. */
function message(frame: number): ArrayBuffer {
  const view = new DataView(new ArrayBuffer(48));
  view.setBigInt64(0, 4n, true);
  view.setUint32(16, frame, true);
  view.setUint32(20, 1, true);
  view.setUint32(28, 1, true);
  view.setUint32(32, 77, true);
  return view.buffer;
}

beforeEach(() => {
  vi.restoreAllMocks();
  vi.spyOn(api, "freshness").mockResolvedValue(fresh([stretch(1, 24, "missing")]));
  vi.spyOn(api, "play").mockResolvedValue();
  shot.id = 7;
  shot.state = {
    id: 7,
    revision: 1,
    document: { timing: { first: 1, last: 24, fps: 24 }, elements: [] },
  } as unknown as ShotState;
  playback.reset();
  playback.freshness = fresh([stretch(1, 24, "missing")]);
});

const states = () => playback.freshness!.stretches.map((s) => `${s.first}–${s.last} ${s.state}`);

describe("a computed frame", () => {
  test("joins the fresh ones before it", () => {
    for (const frame of [1, 2, 3]) playback.computed(frame, 24, 1);
    expect(states()).toEqual(["1–3 fresh", "4–24 missing"]);
    expect(playback.stateOf(3)).toBe("fresh");
    expect(playback.stateOf(4)).toBe("missing");
  });
  test("splits a stale stretch and keeps its reason on both sides", () => {
    playback.freshness = fresh([stretch(1, 24, "stale", "before friction changed")]);
    playback.computed(10, 24, 1);
    expect(states()).toEqual(["1–9 stale", "10–10 fresh", "11–24 stale"]);
    expect(playback.freshness!.stretches[2].reason).toBe("before friction changed");
  });
  test("that was the last one leaves one stretch", () => {
    for (let frame = 1; frame <= 24; frame++) playback.computed(frame, 24, 0);
    expect(states()).toEqual(["1–24 fresh"]);
  });
  test("tells how far the server is", () => {
    playback.computed(5, 24, 2.5);
    expect(playback.computing).toEqual({ frame: 5, last: 24, secondsLeft: 2.5 });
    expect(playback.freshness!.playing).toBe(true);
  });
  test("is told of anew only if it is the one shown", () => {
    const before = playback.changes;
    playback.computed(5, 24, 1);
    expect(playback.changes).toBe(before);
    playback.go(6);
    playback.computed(6, 24, 1);
    expect(playback.changes).toBe(before + 1);
  });
});

test("frames computed while freshness is asked for stay fresh, whatever the answer knew", async () => {
  let answer!: (freshness: Freshness) => void;
  vi.spyOn(api, "freshness").mockReturnValue(new Promise((resolve) => (answer = resolve)));
  const asked = playback.refresh();
  playback.computed(1, 24, 3);
  playback.computed(2, 24, 3);
  answer(fresh([stretch(1, 24, "missing")], true));
  await asked;
  expect(states()).toEqual(["1–2 fresh", "3–24 missing"]);
});

describe("frames", () => {
  test("are fetched once", async () => {
    const get = vi.spyOn(api, "frame").mockImplementation(async () => message(3).slice(16));
    await playback.fetch(4, 3);
    await playback.fetch(4, 3);
    expect(get).toHaveBeenCalledOnce();
  });
  test("that came by themselves are not fetched at all", async () => {
    const get = vi.spyOn(api, "frame");
    playback.received(4, message(3));
    playback.computed(3, 24, 1);
    const frame = await playback.fetch(4, 3, true, shown.part);
    expect([...frame!.keys()]).toEqual([77]);
    expect(get).not.toHaveBeenCalled();
  });
  test("of another part are fetched by themselves", async () => {
    const get = vi.spyOn(api, "frame").mockImplementation(async () => message(3).slice(16));
    for (const without of [[], [5], [5, 9], [5]]) await playback.fetch(4, 3, true, { without, most: 100 });
    expect(get).toHaveBeenCalledTimes(3);
  });
  test("of another run that came are left", async () => {
    const get = vi.spyOn(api, "frame").mockImplementation(async () => message(3).slice(16));
    playback.received(99, message(3));
    playback.computed(3, 24, 1);
    await playback.fetch(4, 3);
    expect(get).toHaveBeenCalledOnce();
  });
  test("that are computed anew are fetched anew", async () => {
    const get = vi.spyOn(api, "frame").mockImplementation(async () => message(3).slice(16));
    await playback.fetch(4, 3);
    playback.computed(3, 24, 1);
    await playback.fetch(4, 3);
    expect(get).toHaveBeenCalledTimes(2);
  });
  test("that are not there are asked for again the next time", async () => {
    const get = vi.spyOn(api, "frame").mockRejectedValue(new Error("404"));
    expect(await playback.fetch(4, 3)).toBeNull();
    expect(await playback.fetch(4, 3)).toBeNull();
    expect(get).toHaveBeenCalledTimes(2);
  });
});

test("stepping and going stay within the shot", () => {
  playback.go(99);
  expect(playback.frame).toBe(24);
  playback.step(1);
  expect(playback.frame).toBe(24);
  playback.go(-3);
  expect(playback.frame).toBe(1);
  playback.go(7.6);
  expect(playback.frame).toBe(8);
});

describe("playing", () => {
  /** Lets so many milliseconds of frames go by. */
  async function wait(ms: number) {
    await vi.advanceTimersByTimeAsync(ms);
  }

  beforeEach(() => {
    vi.useFakeTimers({
      toFake: ["requestAnimationFrame", "cancelAnimationFrame", "performance", "setTimeout"],
    });
    return () => {
      playback.pause();
      vi.useRealTimers();
    };
  });

  test("has the missing frames computed and waits for them", async () => {
    vi.mocked(api.freshness).mockResolvedValue(fresh([stretch(1, 24, "missing")], true));
    await playback.play();
    expect(api.play).toHaveBeenCalledWith(7, null);
    await wait(500);
    expect([playback.frame, playback.running]).toEqual([1, true]);
    playback.computed(1, 24, 1);
    playback.computed(2, 24, 1);
    await wait(500);
    expect(playback.frame).toBe(2);
  });

  test("goes at the shot's rate and begins again at the end", async () => {
    vi.mocked(api.freshness).mockResolvedValue(fresh([stretch(1, 24, "fresh")]));
    await playback.refresh();
    await playback.play();
    await wait(500);
    expect(playback.frame).toBeGreaterThanOrEqual(11);
    expect(playback.frame).toBeLessThanOrEqual(14);
    await wait(700);
    expect(playback.frame).toBeLessThan(12);
  });

  test("stops at the end where it is not to loop", async () => {
    vi.mocked(api.freshness).mockResolvedValue(fresh([stretch(1, 24, "fresh")]));
    await playback.refresh();
    playback.loop = false;
    await playback.play();
    await wait(2000);
    expect([playback.frame, playback.running]).toEqual([24, false]);
    playback.loop = true;
  });
});

test("play, pause and play in a hurry leave one clock", async () => {
  const asked = vi.spyOn(window, "requestAnimationFrame").mockImplementation(() => 1);
  playback.freshness = fresh([stretch(1, 24, "fresh")]);
  vi.mocked(api.freshness).mockResolvedValue(fresh([stretch(1, 24, "fresh")]));
  const first = playback.play();
  playback.pause();
  const second = playback.play();
  await Promise.all([first, second]);
  expect(asked).toHaveBeenCalledTimes(1);
  playback.pause();
});

describe("finished frames", () => {
  const finished = (last: number, state: Stretch["state"]) => ({
    first: 1,
    last,
    repeats: false,
    stretches: [stretch(1, last, state)],
    steps: [{ step: 5, first: 1, last: 60, repeats: false, ticks: [], problem: null }],
  });

  test("are what is shown, and the Timeline has room for every step", () => {
    playback.freshness = { ...fresh([stretch(1, 24, "fresh")]), finished: finished(48, "missing") };
    expect([playback.last, playback.end, playback.finished]).toEqual([48, 60, true]);
    expect(playback.stateOf(3)).toBe("missing");
  });

  test("are asked for again when a step has changed, and the frame stays within them", async () => {
    const frame = vi.spyOn(api, "frame").mockRejectedValue(new Error("none"));
    vi.spyOn(api, "freshness").mockResolvedValue({
      ...fresh([stretch(1, 24, "fresh")]),
      finished: finished(12, "fresh"),
    });
    playback.frame = 20;
    await playback.refresh();
    expect(playback.frame).toBe(12);
    await playback.fetch(4, 3);
    await playback.refresh();
    await playback.fetch(4, 3);
    expect(frame).toHaveBeenCalledTimes(2);
  });

  test("are not taken from frames as they are computed", async () => {
    playback.freshness = { ...fresh([stretch(1, 24, "missing")]), finished: finished(24, "missing") };
    const frame = vi.spyOn(api, "frame").mockRejectedValue(new Error("none"));
    playback.received(4, message(3));
    playback.computed(3, 24, 1);
    await playback.fetch(4, 3);
    expect(frame).toHaveBeenCalledWith(4, 3, true, null);
  });
});

describe("systems", () => {
  const of = (system: string, reads: string[], state: Stretch["state"]) => ({
    system,
    name: system,
    elements: [4],
    reads,
    stretches: [stretch(1, 24, state)],
  });
  const both = (sparks: Stretch["state"] = "missing", playing = false): Freshness => ({
    ...fresh([stretch(1, 24, "stale", "without sparks")], playing),
    systems: [of("solids", [], "fresh"), of("sparks", ["solids"], sparks)],
  });
  const stateAt = (system: string, frame: number) =>
    playback
      .freshness!.systems.find((of) => of.system === system)!
      .stretches.find((s) => s.first <= frame && frame <= s.last)!.state;

  test("a computed frame is fresh in all of them", () => {
    playback.freshness = both("stale");
    playback.computed(3, 24, 1);
    expect([stateAt("solids", 3), stateAt("sparks", 3), stateAt("sparks", 4)]).toEqual([
      "fresh",
      "fresh",
      "stale",
    ]);
    expect(playback.stateOf(3)).toBe("fresh");
  });
  test("one that is computed alone leaves the others, and is what playing waits for", () => {
    playback.freshness = {
      ...both(),
      systems: [of("solids", [], "missing"), of("sparks", ["solids"], "stale")],
    };
    playback.computeOnly("solids");
    playback.computed(3, 24, 1);
    expect([stateAt("solids", 3), stateAt("sparks", 3)]).toEqual(["fresh", "stale"]);
    expect([playback.stateOf(3), playback.stateOf(4)]).toEqual(["fresh", "missing"]);
    playback.computeOnly("solids");
    expect(playback.only).toBe(null);
  });
  test("one that reads others is computed with them", () => {
    playback.freshness = {
      ...both(),
      systems: [of("solids", [], "stale"), of("sparks", ["solids"], "stale")],
    };
    playback.computeOnly("sparks");
    playback.computed(3, 24, 1);
    expect([stateAt("solids", 3), stateAt("sparks", 3)]).toEqual(["fresh", "fresh"]);
  });
  test("a choice made while frames are computed is told, and one that is gone is forgotten", async () => {
    playback.freshness = both("stale", true);
    playback.computeOnly("sparks");
    expect(api.play).toHaveBeenCalledWith(7, "sparks");
    await playback.refresh();
    expect(playback.only).toBe(null);
  });
});
