import { flushSync, mount, tick, unmount } from "svelte";
import { afterEach, describe, expect, test, vi } from "vitest";
import type { Element } from "../api/client";
import { performing } from "../state/performing.svelte";
import { playback } from "../state/playback.svelte";
import { shot } from "../state/shot.svelte";
import { values } from "../state/values.svelte";
import ColourField from "./ColourField.svelte";
import NumberField from "./NumberField.svelte";

let mounted: Record<string, unknown> | undefined;
afterEach(() => {
  if (mounted) void unmount(mounted);
  vi.restoreAllMocks();
  document.body.innerHTML = "";
});

const field = () => [...document.querySelectorAll<HTMLInputElement>("input")].at(-1)!;

function type(text: string) {
  field().value = text;
  field().dispatchEvent(new InputEvent("input", { bubbles: true }));
  flushSync();
}

function press(key: string) {
  field().dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
  flushSync();
}

/** A field of a value of a shot, which is replaced whole whenever anything of it changes. */
function number(oncommit = vi.fn()) {
  let shot = $state.raw({ friction: 0.5 });
  const props = {
    label: "Friction",
    step: 0.01,
    get value() {
      return shot.friction;
    },
    oncommit,
  };
  mounted = mount(NumberField, { target: document.body, props });
  flushSync();
  return (friction: number) => {
    shot = { friction };
    flushSync();
  };
}

describe("a number being typed", () => {
  test("stays while other values of the shot change", () => {
    const change = number();
    type("0.7");
    change(0.5);
    expect(field().value).toBe("0.7");
  });
  test("gives way when the value itself changes", () => {
    const change = number();
    type("0.7");
    change(0.9);
    expect(field().value).toBe("0.9");
  });
  test("goes on while what was typed before is being saved", async () => {
    let saved = () => {};
    const change = number(vi.fn(() => new Promise<void>((resolve) => (saved = resolve))));
    type("0.7");
    press("Enter");
    type("0.8");
    change(0.7);
    saved();
    await tick();
    flushSync();
    expect(field().value).toBe("0.8");
  });
  test("is committed by Enter and forgotten by Escape", async () => {
    const oncommit = vi.fn();
    number(oncommit);
    type("0.7");
    press("Escape");
    expect([field().value, oncommit.mock.calls.length]).toEqual(["0.5", 0]);
    type("0,8");
    press("Enter");
    expect(oncommit).toHaveBeenCalledWith(0.8);
  });
  test("that is no number is not committed", () => {
    const oncommit = vi.fn();
    number(oncommit);
    type("rough");
    press("Enter");
    expect([field().value, oncommit.mock.calls.length]).toEqual(["0.5", 0]);
  });
  test("goes by its step with the arrows", () => {
    const oncommit = vi.fn();
    number(oncommit);
    press("ArrowUp");
    expect(oncommit).toHaveBeenLastCalledWith(0.51);
  });
});

/** The store of the shot with one crate, its values as given. */
function crate(body: object, look: object, channels: object = {}) {
  const kind = { solid: { shape: {}, body, look } };
  const element = { id: 1, name: "Crate", placement: {}, kind, channels } as unknown as Element;
  shot.id = 1;
  shot.state = {
    id: 1,
    revision: 1,
    project: "",
    document: { elements: [element], timing: { first: 1, last: 9 } },
  } as never;
  return element;
}

test("a colour being typed stays while other values of the shot change", () => {
  const set = vi.spyOn(values, "set").mockResolvedValue(true);
  const element = crate({}, { albedo: [0.6, 0.6, 0.6] });
  const target = { element, ids: [1], path: "kind.solid.look.albedo" };
  mounted = mount(ColourField, { target: document.body, props: { label: "Albedo", target } as never });
  flushSync();
  type("0.9 0.1 0.1");
  crate({ friction: 0.9 }, { albedo: [0.6, 0.6, 0.6] });
  flushSync();
  expect(field().value).toBe("0.9 0.1 0.1");
  press("Enter");
  expect(set).toHaveBeenCalledWith(target, "Albedo", [0.9, 0.1, 0.1]);
});

describe("a value that can change with time", () => {
  const at = (element: Element) => ({ element, ids: [1], path: "kind.solid.body.friction" });
  const thread = () => document.querySelector<HTMLElement>("[data-thread]")!;
  const knots = () => [...thread().querySelectorAll<HTMLElement>("[data-knot]")];
  function show(channels: object) {
    if (mounted) void unmount(mounted);
    mounted = undefined;
    const props = { label: "Friction", target: at(crate({ friction: 0.5 }, {}, channels)) };
    mounted = mount(NumberField, { target: document.body, props });
    flushSync();
  }
  const keyed = (...frames: number[]) => ({
    "kind.solid.body.friction": { keys: frames.map((frame) => ({ frame, value: 0.2 })) },
  });
  const made = (edit: ReturnType<typeof edits>, call = 0) => edit.mock.calls[call][1](shot.document!);
  function edits() {
    const edit = vi.spyOn(shot, "edit").mockResolvedValue(true);
    edit.mockClear();
    return edit;
  }

  test("has a bare thread while it is constant, and is keyed by a press on the thread", () => {
    const edit = edits();
    show({});
    expect([thread().dataset.how, knots().length]).toEqual(["constant", 0]);
    thread().querySelector("button")!.click();
    expect(edit.mock.calls[0][0]).toBe("Friction keyed of Crate");
    const keys = [{ frame: 1, value: 0.5 }];
    expect(made(edit)).toMatchObject([
      { op: "add", path: "/elements/0/channels", value: { "kind.solid.body.friction": { keys } } },
    ]);
  });

  test("has a knot for each key, and says whether one is at this frame", () => {
    show(keyed(4, 9));
    expect([thread().dataset.how, ...knots().map((knot) => knot.dataset.knot)]).toEqual(["keyed", "4", "9"]);
    show(keyed(1));
    expect(thread().dataset.how).toBe("here");
  });

  test("goes to a key by a press on its knot", () => {
    show(keyed(4));
    knots()[0].dispatchEvent(new PointerEvent("pointerdown", { bubbles: true, clientX: 40 }));
    window.dispatchEvent(new PointerEvent("pointerup", { clientX: 40 }));
    expect(playback.frame).toBe(4);
    playback.frame = 1;
  });

  test("is keyed by K from its field, and its key taken away by K again", () => {
    const edit = edits();
    show({});
    press("k");
    expect(edit.mock.calls[0][0]).toBe("Friction keyed of Crate");
    show(keyed(1));
    press("k");
    expect(edit.mock.calls[1][0]).toBe("Key of friction removed of Crate");
    expect(made(edit, 1)).toMatchObject([{ op: "remove" }, { op: "add", value: 0.5 }]);
  });

  test("is set and then keyed by K while a number is typed; K is a letter of a formula", async () => {
    const set = vi.spyOn(values, "set").mockResolvedValue(true);
    const key = vi.spyOn(values, "key").mockResolvedValue(true);
    show({});
    type("0.8");
    press("k");
    await tick();
    await tick();
    expect([set.mock.calls[0][2], key.mock.calls.length]).toEqual([0.8, 1]);
    type("= k");
    press("k");
    expect(key.mock.calls.length).toBe(1);
  });

  test("adds no stop of the Tab key", () => {
    show(keyed(1, 4));
    const stops = [...document.querySelectorAll<HTMLElement>("input, button, [tabindex]")];
    expect(stops.filter((stop) => stop.tabIndex >= 0)).toEqual([field()]);
  });

  test("shows its formula, and takes one that is typed", () => {
    const setFormula = vi.spyOn(values, "setFormula").mockResolvedValue(true);
    show({ "kind.solid.body.friction": { expression: "time / 2" } });
    expect(field().value).toBe("= time / 2");
    type("= sin(time)");
    press("Enter");
    expect(setFormula.mock.calls[0].slice(1)).toEqual(["Friction", "sin(time)"]);
  });

  test("that is keyed is keyed at this frame by typing", () => {
    const edit = vi.spyOn(shot, "edit").mockResolvedValue(true);
    edit.mockClear();
    show({ "kind.solid.body.friction": { keys: [{ frame: 4, value: 0.2 }] } });
    type("0.7");
    press("Enter");
    const made = edit.mock.calls[0][1](shot.document!);
    expect(made[0].path).toBe("/elements/0/channels/kind.solid.body.friction");
    expect((made[0].value as { keys: unknown }).keys).toEqual([
      { frame: 1, value: 0.7 },
      { frame: 4, value: 0.2 },
    ]);
  });
});

test("a value that is the same at every frame is saved, not performed, while the shot is performed", () => {
  const hold = vi.spyOn(performing, "hold").mockImplementation(() => undefined);
  const edit = vi.spyOn(shot, "edit").mockResolvedValue(true);
  edit.mockClear();
  performing.state = "on";
  const target = { element: crate({ friction: 0.5 }, {}), ids: [1], path: "kind.solid.body.friction" };
  const props = { label: "Number", fixed: true, whole: true, least: 1, target };
  mounted = mount(NumberField, { target: document.body, props });
  flushSync();
  expect(document.querySelector("[data-thread]")).toBeNull();
  type("-3.4");
  press("Enter");
  performing.state = "off";
  expect(hold).not.toHaveBeenCalled();
  const path = "/elements/0/kind/solid/body/friction";
  expect(edit.mock.calls[0][1](shot.document!)).toEqual([{ op: "add", path, value: 1 }]);
});
