import { beforeEach, expect, test, vi } from "vitest";
import type { ShotState } from "../api/client";
import { commands, shownKeys } from "./commands.svelte";
import { desk } from "./desk.svelte";
import { playback } from "./playback.svelte";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";

beforeEach(() => {
  vi.restoreAllMocks();
  shot.state = {
    id: 7,
    revision: 1,
    document: {
      timing: { first: 1, last: 24, fps: 24 },
      elements: [{ id: 3, name: "Crate", kind: { solid: {} } }],
    },
  } as unknown as ShotState;
  selection.none();
  desk.finder = false;
  playback.frame = 5;
});

function press(key: string, target: string = "<div></div>", more: KeyboardEventInit = {}): boolean {
  document.body.innerHTML = target;
  const on = document.body.querySelector("#on") ?? document.body.firstElementChild!;
  const event = new KeyboardEvent("keydown", { key, bubbles: true, cancelable: true, ...more });
  Object.defineProperty(event, "target", { value: on });
  commands.press(event);
  return event.defaultPrevented;
}

test("no two commands have the same name or keys", () => {
  const names = commands.list.map((command) => command.name);
  expect(new Set(names).size).toBe(names.length);
  const keys = commands.list.flatMap((command) => command.keys ?? []);
  expect(new Set(keys).size).toBe(keys.length);
});

test("a key does what its command does", () => {
  expect(press(".")).toBe(true);
  expect(playback.frame).toBe(6);
  press("j", "<div></div>", { ctrlKey: true });
  expect(desk.finder).toBe(true);
});

test("keys typed into a field are text", () => {
  expect(press(".", "<input>")).toBe(false);
  expect(press("m", "<textarea></textarea>")).toBe(false);
  expect(playback.frame).toBe(5);
});

test("the finder opens from a field too", () => {
  press("j", "<input>", { ctrlKey: true });
  expect(desk.finder).toBe(true);
});

test("a menu or dialog keeps its keys", () => {
  expect(press(".", '<div role="menu"><button id="on"></button></div>')).toBe(false);
  expect(press(".", '<div role="dialog"><p id="on"></p></div>')).toBe(false);
});

test("Enter presses the button in focus and does not play", () => {
  const toggle = vi.spyOn(playback, "toggle").mockReturnValue();
  press("Enter", "<button></button>");
  expect(toggle).not.toHaveBeenCalled();
  press("Enter");
  expect(toggle).toHaveBeenCalledOnce();
});

test("what needs a selection does nothing without one", () => {
  const remove = vi.spyOn(shot, "remove").mockResolvedValue(true);
  expect(press("Delete")).toBe(false);
  selection.only(3);
  expect(press("Delete")).toBe(true);
  expect(remove).toHaveBeenCalledWith([3]);
});

test("all solids are selected, and none", () => {
  press("a", "<div></div>", { ctrlKey: true });
  expect(selection.ids).toEqual([3]);
  press("Escape");
  expect(selection.ids).toEqual([]);
});

test("hiding hides all unless all are hidden", () => {
  const set = vi.spyOn(shot, "set").mockResolvedValue(true);
  selection.only(3);
  press("H", "<div></div>", { shiftKey: true });
  expect(set).toHaveBeenCalledWith("Hidden", [3], "/hidden", true);
});

test("keys are shown as they are named here", () => {
  expect(shownKeys(commands.named("Undo"))).toMatch(/^(Ctrl|⌘)\+Z$/);
  expect(shownKeys(commands.named("All shots"))).toBe("");
});
