import { flushSync, tick } from "svelte";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { api, type Operation, type Shot } from "../api/client";
import { finishOf } from "../state/finishing";
import { playback } from "../state/playback.svelte";
import { shot } from "../state/shot.svelte";
import Rounds from "./Rounds.svelte";
import TimingSection from "./TimingSection.svelte";
import Unreturned from "./Unreturned.svelte";
import { button, clear, show } from "../testing";

const seam = (position: number, velocity: number) => ({ position, velocity });
const round = (from_frame: number, of: object) => ({
  from_frame,
  seam: null,
  unreturned: [],
  closes: false,
  ...of,
});

beforeEach(() => {
  shot.id = 1;
  shot.state = {
    id: 1,
    revision: 1,
    project: "",
    document: {
      assets: {},
      elements: [4, 5, 6, 7, 8].map((id) => ({
        id,
        name: `Float ${id}`,
        kind: { solid: {} },
        placement: {},
      })),
      timing: { first: 1, last: 96, fps: 24, loop_frames: 24 },
    },
  } as never;
});
afterEach(() => {
  clear();
  vi.restoreAllMocks();
});

const settled = async () => {
  for (let i = 0; i < 4; i++) await tick();
  flushSync();
};

test("each round tells its seam, and the one that closes says so", async () => {
  const rounds = [round(1, { seam: seam(0.4, 12.3) }), round(25, { seam: seam(0.004, 0.002), closes: true })];
  vi.spyOn(api, "rounds").mockResolvedValue(rounds);
  show(Rounds, { length: 24 });
  await settled();
  const items = [...document.querySelectorAll("li")].map((item) =>
    item.textContent?.replace(/\s+/g, " ").trim(),
  );
  expect(items[0]).toContain("1–24 seam 40 % of the motion, 12 × of the speed");
  expect(items[1]).toContain("25–48 seam 0.4 % of the motion, 0.2 % of the speed");
  expect(document.querySelector('[data-testid="closed"]')?.textContent).toContain(
    "Frame 49 would be frame 25: 24 frames go round.",
  );
});

test("without rounds it says what will happen, and other particles are told", async () => {
  vi.spyOn(api, "rounds").mockResolvedValue([]);
  show(Rounds, { length: 24 });
  await settled();
  expect(document.body.textContent).toContain("until the state meets itself");
  vi.spyOn(api, "rounds").mockResolvedValue([round(1, { unreturned: [4] })]);
  playback.changes++;
  await settled();
  expect(document.body.textContent).toContain("ends with other particles");
  expect(document.body.textContent).toContain("Not back where it began: Float 4.");
});

test("a round is shown by a new loop step, from the first frame on", async () => {
  vi.spyOn(api, "rounds").mockResolvedValue([round(25, { seam: seam(0, 0), closes: true })]);
  const add = vi.spyOn(shot, "add").mockResolvedValue(undefined as never);
  playback.frame = 60;
  show(Rounds, { length: 24 });
  await settled();
  button("Show round 1").click();
  await settled();
  expect(playback.frame).toBe(1);
  const kind = add.mock.calls[0][1] as { finish: ReturnType<typeof finishOf> };
  expect(kind.finish?.operation).toEqual({ loop: { frames: 24, from_frame: 25, overlap: 0 } });
});

test("names of elements that do not return are told, of many only some", () => {
  show(Unreturned, { ids: [4, 5, 6, 7, 8, 99] });
  expect(document.body.textContent?.trim()).toBe(
    "Not back where they began: Float 4, Float 5, Float 6, Float 7 and 1 more.",
  );
  clear();
  show(Unreturned, { ids: [] });
  expect(document.body.textContent?.trim()).toBe("");
});

test("a new rate goes to the server with the base that is kept", async () => {
  vi.spyOn(api, "rounds").mockResolvedValue([]);
  const set = vi.spyOn(api, "setFrameRate").mockResolvedValue(shot.state as never);
  vi.spyOn(playback, "refresh").mockResolvedValue();
  show(TimingSection, {});
  await settled();
  const rate = document.querySelector<HTMLInputElement>('input[aria-label="Frame rate, fps"]')!;
  const type = async (value: string) => {
    rate.value = value;
    rate.dispatchEvent(new Event("input", { bubbles: true }));
    rate.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
    rate.dispatchEvent(new Event("change", { bubbles: true }));
    await settled();
  };
  await type("30");
  expect(set).toHaveBeenLastCalledWith(1, 30, "seconds");
});

test("a loop length is set, and taken away by an empty field", async () => {
  vi.spyOn(api, "rounds").mockResolvedValue([]);
  const made: [string, ...Operation[]][] = [];
  vi.spyOn(shot, "edit").mockImplementation(async (label, make) => {
    made.push([label, ...make(shot.document as Shot)]);
    return true;
  });
  show(TimingSection, {});
  await settled();
  const field = document.querySelector<HTMLInputElement>('input[aria-label="Goes round in, frames"]')!;
  expect(field.value).toBe("24");
  field.value = "";
  field.dispatchEvent(new Event("input", { bubbles: true }));
  field.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
  field.dispatchEvent(new Event("change", { bubbles: true }));
  await settled();
  expect(made.at(-1)).toEqual(["Does not go round", { op: "add", path: "/timing/loop_frames", value: null }]);
});
