import { beforeEach, describe, expect, test, vi } from "vitest";
import { api, Problem, type Operation, type Shot, type ShotState } from "../api/client";
import { notices } from "./notices.svelte";
import { selection } from "./selection.svelte";
import { countOf, shot } from "./shot.svelte";

const solid = (id: number, name: string) => ({
  id,
  name,
  placement: { position_m: [0, 0, 0], orientation_rad: [0, 0, 0] },
  kind: { solid: { shape: { sphere: { radius_m: 1 } } } },
});

function state(revision: number, elements: unknown[] = [solid(1, "Crate"), solid(2, "Float 2")]): ShotState {
  const document = { name: "Test", camera: null, elements, timing: { first: 1, last: 24, fps: 24 } };
  return { id: 7, project: "Saltmarket", revision, document: document as unknown as Shot } as ShotState;
}

/** The operations of each change that was sent. */
let sent: Operation[][];

beforeEach(async () => {
  vi.restoreAllMocks();
  sent = [];
  vi.spyOn(api, "shot").mockResolvedValue(state(1));
  vi.spyOn(api, "patch").mockImplementation(async (_id, base, _label, patch) => {
    sent.push(patch);
    return state(base + 1);
  });
  notices.list = [];
  selection.none();
  await shot.open(7);
});

test("changes are sent one after the other, each on the newest revision", async () => {
  const [first, second] = [shot.set("A", [1], "/name", "A"), shot.set("B", [2], "/name", "B")];
  expect(shot.saving).toBe(2);
  expect(await first).toBe(true);
  expect(await second).toBe(true);
  expect(shot.saving).toBe(0);
  expect(vi.mocked(api.patch).mock.calls.map((call) => call[1])).toEqual([1, 2]);
});

test("a value is set on every element that is there", async () => {
  await shot.set("Hidden", [2, 99, 1], "/hidden", true);
  expect(sent[0].map((operation) => operation.path)).toEqual(["/elements/1/hidden", "/elements/0/hidden"]);
});

test("a change of one part is made on the others as they are by then", async () => {
  const at = (x: number, y: number) => ({ ...solid(1, "Crate"), placement: { position_m: [x, y, 0] } });
  vi.mocked(api.patch).mockImplementation(async (_id, base, _label, patch) => {
    sent.push(patch);
    return state(base + 1, [at(5, 0)]);
  });
  const part = (i: number, value: number) => (old: number[]) => old.with(i, value);
  const first = shot.set("x", [1], "/placement/position_m", part(0, 5));
  await shot.set("y", [1], "/placement/position_m", part(1, 7));
  await first;
  expect(sent.map((operations) => operations[0].value)).toEqual([
    [5, 0, 0],
    [5, 7, 0],
  ]);
});

test("elements that did not change stay the same objects", async () => {
  const [crate, float] = shot.elements;
  vi.mocked(api.patch).mockResolvedValue(
    state(2, [solid(1, "Crate"), { ...solid(2, "Float 2"), hidden: true }]),
  );
  await shot.set("Hidden", [2], "/hidden", true);
  expect(shot.elements[0]).toBe(crate);
  expect(shot.elements[1]).not.toBe(float);
});

describe("adding", () => {
  test("takes the next id and a free name, and selects it", async () => {
    vi.mocked(api.patch).mockImplementation(async (_id, base, _label, patch) => {
      sent.push(patch);
      return state(base + 1, [solid(1, "Crate"), solid(2, "Float 2"), solid(3, "Crate 2")]);
    });
    await shot.add("Crate", solid(0, "").kind as never, [0, 1, 0]);
    expect(sent[0][0].value).toMatchObject({ id: 3, name: "Crate 2" });
    expect(selection.ids).toEqual([3]);
  });
  test("a first camera is what renders", async () => {
    await shot.add("Camera", { camera: {} } as never, [0, 1, 0]);
    expect(sent[0][1]).toEqual({ op: "add", path: "/camera", value: 3 });
  });
});

test("duplicates are numbered and selected", async () => {
  vi.mocked(api.patch).mockImplementation(async (_id, base, _label, patch) => {
    sent.push(patch);
    return state(
      base + 1,
      [1, 2, 3, 4].map((id) => solid(id, String(id))),
    );
  });
  await shot.duplicate([1, 2]);
  expect(sent[0].map((operation) => (operation.value as { name: string }).name)).toEqual([
    "Crate 2",
    "Float",
  ]);
  expect(selection.ids).toEqual([3, 4]);
});

test("deleting is asked of the server with the revision it is meant for", async () => {
  vi.spyOn(api, "deleteElements").mockResolvedValue(state(5, [solid(2, "Float")]));
  const revision = shot.state!.revision;
  expect(await shot.remove([1])).toBe(true);
  expect(vi.mocked(api.deleteElements)).toHaveBeenLastCalledWith(7, revision, [1]);
  expect(shot.elements.map((element) => element.id)).toEqual([2]);
});

test("an element that is added gets an id that none had before", async () => {
  vi.mocked(api.shot).mockResolvedValue({ ...state(1, [solid(1, "Crate")]), next_element: 30 } as ShotState);
  await shot.open(7);
  await shot.add("Box", solid(1, "x").kind as never, [0, 0, 0]);
  expect((sent[0][0].value as { id: number }).id).toBe(30);
});

test("what the server refuses is said and the fields show again what is saved", async () => {
  vi.mocked(api.patch).mockRejectedValue(
    new Problem(422, "/problems/faults", "restitution: 7 is outside 0 to 1"),
  );
  const before = shot.state;
  expect(await shot.set("Bounce", [1], "/x", 7)).toBe(false);
  expect(notices.list[0]).toMatchObject({ text: "restitution: 7 is outside 0 to 1", grave: true });
  expect(shot.state).not.toBe(before);
  expect(shot.state).toEqual(before);
});

test("a change that came too late is told and can be applied to the newest state", async () => {
  vi.mocked(api.patch).mockRejectedValueOnce(new Problem(409, "/problems/changed-elsewhere", "late", 5));
  vi.mocked(api.shot).mockResolvedValue(state(5));
  expect(await shot.set("Friction", [1], "/x", 0.7)).toBe(false);
  expect(shot.state?.revision).toBe(5);
  expect(notices.list[0].text).toContain("“Friction” was not saved yet");
  notices.list[0].action!.run();
  await vi.waitFor(() => expect(shot.state?.revision).toBe(6));
  expect(sent[0]).toEqual([{ op: "add", path: "/elements/0/x", value: 0.7 }]);
});

test("a shot that is saving is not replaced by what another window did", async () => {
  const saving = shot.set("A", [1], "/name", "A");
  vi.mocked(api.shot).mockResolvedValue(state(40));
  await shot.refresh();
  await saving;
  expect(shot.state?.revision).toBe(2);
});

test("undo waits for the change that is being saved", async () => {
  const order: string[] = [];
  vi.mocked(api.patch).mockImplementation(async (_id, base) => {
    await Promise.resolve();
    order.push("saved");
    return { ...state(base + 1), undo: "Moves" };
  });
  vi.spyOn(api, "undo").mockImplementation(async () => {
    order.push("undone");
    return state(1);
  });
  void shot.set("Moves", [1], "/x", 1);
  await shot.undo();
  expect(order).toEqual(["saved", "undone"]);
});

test("undo is asked for only where there is something to undo", async () => {
  const undo = vi.spyOn(api, "undo").mockResolvedValue(state(1));
  await shot.undo();
  expect(undo).not.toHaveBeenCalled();
  shot.take({ ...state(2), undo: "Added" });
  await shot.undo();
  expect(undo).toHaveBeenCalledOnce();
});

test("copies are counted", () => {
  expect(countOf(solid(1, "One") as never)).toBe(1);
  const grid = { ...solid(1, "Grid"), kind: { solid: { copies: { count: [2, 3, 4] } } } };
  expect(countOf(grid as never)).toBe(24);
});
