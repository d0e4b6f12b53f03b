import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { api, type Element, type Operation, type Shot } from "../api/client";
import { nameOf } from "./channels";
import { playback } from "./playback.svelte";
import { shot } from "./shot.svelte";
import { pointer, type Target } from "./target";
import { channelOperations, values } from "./values.svelte";

const PLACE = "placement.position_m";
const element = (channels?: object) =>
  ({
    id: 7,
    name: "Crate",
    placement: { position_m: [1, 2, 3], orientation_rad: [0, 0, 0] },
    kind: { solid: { shape: {}, body: { friction: 0.4 }, look: {} } },
    channels,
  }) as unknown as Element;

let made: Operation[] = [];
function open(channels?: object, shotChannels?: object) {
  const document = {
    timing: { fps: 24, first: 1, last: 48 },
    physics: { time_scale: 1 },
    channels: shotChannels,
    elements: [element(channels)],
  } as unknown as Shot;
  shot.id = 1;
  shot.state = { id: 1, revision: 1, project: "", document } as never;
  return document;
}
const at = (path: string): Target => ({ element: shot.elements[0], ids: [7], path });

beforeEach(() => {
  playback.frame = 5;
  vi.spyOn(shot, "edit").mockImplementation((_, make) => {
    made = make(shot.document!);
    return Promise.resolve(true);
  });
});
afterEach(() => vi.restoreAllMocks());

test("a path is a pointer", () => {
  expect(pointer("kind.solid.body.friction")).toBe("/kind/solid/body/friction");
  expect(pointer("placement.position_m[1]")).toBe("/placement/position_m/1");
});

test.each([
  ["placement.position_m[1]", "Place y"],
  ["kind.solid.body.weight.density_kg_m3", "Density"],
  ["kind.force.kind.wind.speed_m_s", "Speed"],
  ["kind.camera.focal_length_mm", "Focal length"],
  ["physics.time_scale", "Time scale"],
])("%s is called %s", (path, name) => expect(nameOf(path)).toBe(name));

describe("setting", () => {
  test("a constant sets it where it is", async () => {
    open();
    await values.set(at("kind.solid.body.friction"), "Friction", 0.9);
    expect(made).toEqual([{ op: "add", path: "/elements/0/kind/solid/body/friction", value: 0.9 }]);
  });
  test("a part replaces it, and does not put it before", async () => {
    open();
    await values.set(at(`${PLACE}[1]`), "Place y", 9);
    expect(made).toEqual([{ op: "replace", path: "/elements/0/placement/position_m/1", value: 9 }]);
  });
  test("a part of what is keyed keys the whole at this frame", async () => {
    open({ [PLACE]: { keys: [{ frame: 1, value: [1, 2, 3] }] } });
    await values.set(at(`${PLACE}[1]`), "Place y", 9);
    expect(made[0].path).toBe(`/elements/0/channels/${PLACE}`);
    expect((made[0].value as { keys: unknown[] }).keys[1]).toEqual({ frame: 5, value: [1, 9, 3] });
  });
  test("a number over a formula takes its place", async () => {
    open({ "kind.solid.body.friction": { expression: "time" } });
    await values.set(at("kind.solid.body.friction"), "Friction", 0.9);
    expect(made.map((o) => [o.op, o.path])).toEqual([
      ["remove", "/elements/0/channels/kind.solid.body.friction"],
      ["add", "/elements/0/kind/solid/body/friction"],
    ]);
  });
  test("a value of the shot itself goes to the shot", async () => {
    open(undefined, { "physics.time_scale": { keys: [{ frame: 1, value: 1 }] } });
    await values.set({ element: null, ids: [], path: "physics.time_scale" }, "Time scale", 0.5);
    expect(made[0].path).toBe("/channels/physics.time_scale");
  });
});

describe("a key", () => {
  test("is how the value reads", () => {
    open({ [PLACE]: { keys: [{ frame: 5, value: [1, 2, 3] }] } });
    expect(values.how(at(PLACE))).toBe("here");
    expect(values.how(at(`${PLACE}[2]`))).toBe("here");
    playback.frame = 6;
    expect(values.how(at(PLACE))).toBe("keyed");
    expect(values.how(at("kind.solid.body.friction"))).toBe("constant");
  });
  test("that was the last one leaves the value as it is", async () => {
    open({ "kind.solid.body.friction": { keys: [{ frame: 5, value: 0.4 }] } });
    await values.toggleKey(at("kind.solid.body.friction"), "Friction");
    expect(made.map((o) => o.op)).toEqual(["remove", "add"]);
    expect(made[1].value).toBe(0.4);
  });
});

test("a formula that cannot be read is not sent", async () => {
  open();
  vi.spyOn(api, "formula").mockResolvedValue({ value: null, fault: "at character 1: no", position: 0 });
  expect(await values.setFormula(at("kind.solid.body.friction"), "Friction", "(")).toBe(false);
  expect(shot.edit).not.toHaveBeenCalled();
});

test("the elements that change are shown as they are at the frame, the others as they are", async () => {
  open({ "kind.solid.body.friction": { keys: [{ frame: 1, value: 0 }] } });
  const moved = { ...element(), kind: { solid: { body: { friction: 0.77 } } } };
  vi.spyOn(api, "at").mockResolvedValue({ frame: 5, elements: [moved as never], time_scale: 1 });
  await values.refresh();
  expect(values.get(at("kind.solid.body.friction"))).toBe(0.77);
  expect(values.document!.elements[0].kind).toEqual(moved.kind);
  open();
  await values.refresh();
  expect(values.get(at("kind.solid.body.friction"))).toBe(0.4);
});

test("the first channel of an element brings the list of them", () => {
  const channel = { keys: [{ frame: 1, value: 1 }] };
  expect(channelOperations(open(), 7, "hidden", channel)[0].path).toBe("/elements/0/channels");
  expect(channelOperations(open({ a: channel }), 7, "hidden", channel)[0].path).toBe(
    "/elements/0/channels/hidden",
  );
  expect(channelOperations(open(), 7, "hidden", null)).toEqual([]);
  expect(channelOperations(open(), 99, "hidden", channel)).toEqual([]);
});

describe("a change of a value of several elements", () => {
  const solid = (id: number, body: object) =>
    ({ id, name: `Crate ${id}`, placement: {}, kind: { solid: { body, look: {} } } }) as unknown as Element;
  const light = { id: 9, name: "Sun", placement: {}, kind: { sun: { irradiance: 3 } } } as unknown as Element;
  function select(...elements: Element[]): (path: string) => Target {
    open();
    shot.document!.elements = elements;
    return (path) => ({ element: elements[0], ids: elements.map(({ id }) => id), path });
  }

  test("is made on all that have the value", () => {
    const of = select(solid(1, { friction: 0.4 }), light, solid(2, { friction: 0.4 }));
    void values.set(of("kind.solid.body.friction"), "Friction", 0.9);
    expect(made.map(({ path }) => path)).toEqual([
      "/elements/0/kind/solid/body/friction",
      "/elements/2/kind/solid/body/friction",
    ]);
  });

  test("is made on one that leaves the value out, but not on one that chose another", () => {
    const heavy = { weight: { mass_kg: 3 }, drag: 1 };
    const dense = { weight: { density_kg_m3: 300 } };
    const of = select(solid(1, heavy), solid(2, dense));
    void values.set(of("kind.solid.body.drag"), "Drag", 2);
    expect(made.length).toBe(2);
    void values.set(of("kind.solid.body.weight.mass_kg"), "Mass", 2);
    expect(made.length).toBe(1);
  });

  test("is needed where they differ", () => {
    const of = select(
      solid(1, { friction: 0.4, restitution: 0 }),
      solid(2, { friction: 0.5, restitution: 0 }),
      light,
    );
    expect(values.differ(of("kind.solid.body.friction"))).toBe(true);
    expect(values.differ(of("kind.solid.body.restitution"))).toBe(false);
  });
});
