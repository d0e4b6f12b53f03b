import { flushSync } from "svelte";
import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { api, type CheckEntry } from "../api/client";
import { films } from "../state/films.svelte";
import { measured } from "../state/measured.svelte";
import { playback } from "../state/playback.svelte";
import { selection } from "../state/selection.svelte";
import { shot } from "../state/shot.svelte";
import CheckList from "./CheckList.svelte";
import Reading from "../viewport/Reading.svelte";
import RenderDialog from "./RenderDialog.svelte";
import SpanBar from "../timeline/SpanBar.svelte";
import WakeFields from "../sheet/WakeFields.svelte";
import { box, button, choose, clear, labels, press, show } from "../testing";

const CRATE = { id: 4, name: "Crate", kind: { solid: { shape: {}, body: { moves: "free" } } } };
const SPARKS = { id: 9, name: "Sparks", kind: { particles: {} } };
const BASKET = { id: 12, name: "Basket room", kind: { region: {} } };

function open(...elements: object[]) {
  shot.id = 1;
  shot.state = {
    id: 1,
    revision: 1,
    project: "",
    document: {
      elements,
      timing: { first: 1, last: 24, fps: 24 },
      picture: { width: 1280, height: 720 },
    },
  } as never;
}

const stretch = (first: number, last: number, state: string) => ({ first, last, state, reason: null });

beforeEach(() => {
  open(CRATE, SPARKS, BASKET);
  playback.frame = 1;
  playback.backwards = false;
  playback.freshness = { run: 5, stretches: [stretch(1, 24, "fresh")], systems: [] } as never;
});
afterEach(() => {
  clear();
  vi.restoreAllMocks();
  measured.run = null;
  films.asking = false;
});

describe("what is read of a frame", () => {
  const words = () => document.querySelector("[data-testid=reading]")!.textContent!.trim();
  const each = (value: number) => Array.from({ length: 24 }, () => value);

  beforeEach(() => {
    vi.spyOn(measured, "refresh").mockImplementation(() => undefined);
    const frames = Array.from({ length: 24 }, (_, i) => i + 1);
    const particles = [{ element: 9, alive: frames.map((n) => 100 * n), born: each(1), gone: each(0) }];
    measured.run = {
      frames,
      particles,
      contacts: each(7),
      deepest_overlap_m: each(0.0004),
      fastest: each(4),
      max_speed_m_s: each(2.5),
      kinetic_j: each(3),
      potential_j: each(39),
    } as never;
  });

  test("tells of bodies and particles", () => {
    playback.frame = 12;
    show(Reading);
    expect(words()).toBe(
      "frame 12 · computed · 1,200 particles · 7 contacts · deepest overlap 0.4 mm · fastest Crate, 2.5 m/s · energy 42 J",
    );
  });

  test("tells of particles alone where no body moves", () => {
    open(SPARKS);
    playback.frame = 24;
    show(Reading);
    expect(words()).toBe("frame 24 · computed · 2,400 particles");
  });

  test("is that of the frame which the run has there, when it is shown backwards", () => {
    open(SPARKS);
    playback.frame = 3;
    playback.backwards = true;
    show(Reading);
    expect(words()).toBe("frame 3 · computed · 2,200 particles");
  });

  test("says what is stale or missing, and tells nothing of what is missing", () => {
    playback.freshness = {
      run: 5,
      systems: [],
      stretches: [stretch(1, 8, "fresh"), stretch(9, 16, "stale"), stretch(17, 24, "missing")],
    } as never;
    playback.frame = 12;
    show(Reading);
    expect(words()).toContain("frame 12 · stale · 1,200 particles");
    playback.frame = 20;
    flushSync();
    expect(words()).toBe("frame 20 · not computed yet");
  });
});

describe("when a body wakes", () => {
  const props = (wake: unknown, moves = "free") => ({ element: CRATE, body: { moves, wake }, solids: [4] });

  test.each([
    ["at a frame", { frame: 7 }],
    ["when it is touched", { touch: { impulse_n_s: 1 } }],
    ["when a neighbour wakes", { neighbour: { within_m: 0.02 } }],
    ["in Basket room", { region: 12 }],
  ])("%s is picked", async (words, wake) => {
    const set = vi.spyOn(shot, "set").mockResolvedValue(true);
    playback.frame = 7;
    show(WakeFields, props(null));
    await choose("Wake", words);
    expect(set).toHaveBeenCalledWith("Wake of Crate", [4], "/kind/solid/body/wake", wake);
  });

  test("one that keys move is let go, and what it needs is asked for", () => {
    show(WakeFields, props({ frame: 30 }, "animated"));
    expect(labels()).toContain("Let go at, frame");
    clear();
    show(WakeFields, props({ touch: { impulse_n_s: 3 } }));
    expect(labels()).toContain("Least impulse, N s");
    clear();
    show(WakeFields, props({ neighbour: { within_m: 0.1 } }));
    expect(labels()).toContain("Within, mm");
  });
});

describe("the frames of a force on the Timeline", () => {
  const props = (frames: object) => ({
    element: { id: 7, name: "Squall" },
    frames,
    path: "/kind/force",
    colour: "blue",
  });
  const ends = () => [...document.querySelectorAll<HTMLElement>("[role=presentation]")];

  test("are as long as the shot where none are given", () => {
    show(SpanBar, props({}));
    expect(ends().map((end) => end.title)).toEqual(["From frame 1", "To frame 24"]);
    const bar = document.querySelector<HTMLElement>("i")!;
    expect([bar.style.left, bar.style.width]).toEqual(["1%", "96%"]);
  });

  test("are dragged by their ends, and a press alone changes nothing", () => {
    const set = vi.spyOn(shot, "set").mockResolvedValue(true);
    show(SpanBar, props({ from_frame: 6, to_frame: 18 }));
    document.body.getBoundingClientRect = () => ({ width: 250 }) as DOMRect;
    const drag = (end: HTMLElement, by: number) => {
      const at = (clientX: number) => ({ bubbles: true, clientX });
      end.dispatchEvent(new PointerEvent("pointerdown", at(100)));
      dispatchEvent(new PointerEvent("pointermove", at(100 + by)));
      flushSync();
      const title = end.title;
      dispatchEvent(new PointerEvent("pointerup", at(100 + by)));
      flushSync();
      return title;
    };
    expect(drag(ends()[0], 20)).toBe("From frame 8");
    expect(set).toHaveBeenLastCalledWith("Span of Squall", [7], "/kind/force/from_frame", 8);
    expect(drag(ends()[1], -40)).toBe("To frame 14");
    expect(set).toHaveBeenLastCalledWith("Span of Squall", [7], "/kind/force/to_frame", 14);
    drag(ends()[0], -5000);
    expect(set).toHaveBeenLastCalledWith("Span of Squall", [7], "/kind/force/from_frame", 0);
    drag(ends()[1], 0);
    expect(set).toHaveBeenCalledTimes(3);
  });
});

describe("the Check list", () => {
  const entry = (mistake: string, elements: number[], reason: string, fix: string | null) =>
    ({ mistake, elements, reason, fix }) as CheckEntry;
  const settled = async () => {
    await new Promise((resolve) => setTimeout(resolve, 10));
    flushSync();
  };

  test("counts what is likely wrong, frames that are missing not among it", async () => {
    const missing = entry("frames_missing", [], "24 of 24 frames are not computed yet.", "Compute");
    vi.spyOn(api, "check").mockResolvedValue([missing]);
    show(CheckList);
    await settled();
    expect(button("Check list")).toBeTruthy();
    clear();
    const unborn = entry("cannot_be_born", [9], "Sparks: there is no place to be born.", null);
    vi.spyOn(api, "check").mockResolvedValue([missing, unborn]);
    show(CheckList);
    await settled();
    expect(button("1 to check")).toBeTruthy();
  });

  test("gives reasons, selects what is meant, and mends at a press", async () => {
    const large = entry("margin_large", [4], "The margin of Crate is 20 % of its size.", "Margin by size");
    vi.spyOn(api, "check").mockResolvedValue([large]);
    const fix = vi.spyOn(api, "fix").mockResolvedValue(shot.state as never);
    vi.spyOn(shot, "take").mockImplementation(() => undefined);
    show(CheckList);
    await settled();
    press(button("1 to check"));
    await settled();
    expect(document.body.textContent).toContain("The margin of Crate is 20 % of its size.");
    press(button("Select"));
    expect(selection.ids).toEqual([4]);
    press(button("Margin by size"));
    await settled();
    expect(fix).toHaveBeenCalledWith(1, large);
  });

  test("says so when nothing looks wrong", async () => {
    vi.spyOn(api, "check").mockResolvedValue([]);
    show(CheckList);
    await settled();
    press(button("Check list"));
    await settled();
    expect(document.body.textContent).toContain("Nothing looks wrong.");
  });
});

describe("a film", () => {
  async function asked() {
    const begin = vi.spyOn(films, "begin").mockResolvedValue(undefined);
    show(RenderDialog);
    films.asking = true;
    flushSync();
    await new Promise((resolve) => setTimeout(resolve, 10));
    flushSync();
    return begin;
  }

  test("is a still of the frame that is shown, unless another kind is picked", async () => {
    playback.frame = 9;
    const begin = await asked();
    press(button("Begin"));
    const [name, settings] = begin.mock.calls[0];
    expect(name).toBe("Still, frame 9");
    expect(settings).toMatchObject({
      first: 9,
      last: 9,
      width: 1280,
      samples: 128,
      backwards: false,
      shift: 0,
    });
  });

  test("says how many of its frames have to be computed first", async () => {
    playback.freshness = { run: 5, stretches: [stretch(1, 24, "missing")], systems: [] } as never;
    await asked();
    expect(document.body.textContent).toContain("1 frame is not computed yet");
    press(
      document.querySelector<HTMLElement>("[role=radio][value=draft], [data-value=draft]") ??
        button("Draft film"),
    );
    expect(document.body.textContent).toContain("24 frames are not computed yet");
  });

  test("shows the run as the Viewport does: backwards if that is so", async () => {
    playback.backwards = true;
    const begin = await asked();
    press(
      document.querySelector<HTMLElement>("[role=radio][value=draft], [data-value=draft]") ??
        button("Draft film"),
    );
    expect(box("Run from its end").checked).toBe(true);
    press(button("Begin"));
    expect(begin.mock.calls[0][1]).toMatchObject({
      first: 1,
      last: 24,
      width: 640,
      samples: 8,
      backwards: true,
    });
  });
});
