import { flushSync } from "svelte";
import { afterEach, describe, expect, test, vi } from "vitest";
import type { Element, Operation, Particles, Shot } from "../api/client";
import { judging } from "../state/judging.svelte";
import { measured } from "../state/measured.svelte";
import { notices } from "../state/notices.svelte";
import { selection } from "../state/selection.svelte";
import { playback } from "../state/playback.svelte";
import { shot } from "../state/shot.svelte";
import { values } from "../state/values.svelte";
import ElementFilterFields from "../fields/ElementFilterFields.svelte";
import ToParticlesFields from "./ToParticlesFields.svelte";
import EventList from "./EventList.svelte";
import EmissionTab from "./EmissionTab.svelte";
import RampStops from "./RampStops.svelte";
import ShowTab from "./ShowTab.svelte";
import TurnoverLane from "../timeline/TurnoverLane.svelte";
import { box, button, choose, clear, labels, press, show } from "../testing";

afterEach(() => {
  clear();
  vi.restoreAllMocks();
});

const QUAY = { id: 3, name: "Quay", kind: { solid: { shape: { plane: { size_m: [4, 4] } } } } };
const CRATE = {
  id: 4,
  name: "Crate",
  groups: ["Light"],
  kind: { solid: { shape: { box: { size_m: [1, 1, 1] } }, body: { breaking_impulse_n_s: 20 } } },
};

/** The store of a shot with a quay, a crate and particles; gives those. */
function sparks(particles: object = {}): { element: Element; particles: Particles } {
  const element = {
    id: 9,
    name: "Sparks",
    placement: {},
    kind: { particles },
    channels: {},
  } as unknown as Element;
  shot.id = 1;
  shot.state = {
    id: 1,
    revision: 1,
    project: "",
    document: {
      assets: { moon: { kind: "image" } },
      elements: [QUAY, CRATE, element],
      timing: { first: 1, last: 24, fps: 24 },
    },
  } as never;
  return { element, particles: particles as Particles };
}

/** The changes that are saved from now on: what undo calls each, and its operations. */
function changes(): [label: string, ...Operation[]][] {
  const made: [string, ...Operation[]][] = [];
  vi.spyOn(shot, "edit").mockImplementation(async (label, make) => {
    made.push([label, ...make(shot.document as Shot)]);
    return true;
  });
  return made;
}

describe("lists of elements", () => {
  const props = (lists: object) => ({
    element: sparks().element,
    path: "kind.particles.contact",
    lists,
    label: "Which",
    says: "Bodies met",
    offered: [QUAY, CRATE],
  });

  test("are ticked and cleared one by one, groups among them", () => {
    const made = changes();
    show(ElementFilterFields, props({ only: [3] }));
    expect([box("Quay").checked, box("Crate").checked]).toEqual([true, false]);
    press(box("Group Light"));
    press(box("Quay"));
    const path = "/elements/2/kind/particles/contact/only";
    expect(made).toEqual([
      ["Bodies met of Sparks", { op: "add", path, value: [3, { group: "Light" }] }],
      ["Bodies met of Sparks", { op: "add", path, value: [] }],
    ]);
  });

  test("that leave out are shown as such", () => {
    show(ElementFilterFields, props({ except: [4] }));
    expect(document.body.textContent).toContain("all except those ticked");
    expect(box("Crate").checked).toBe(true);
  });
});

describe("what becomes of particles", () => {
  const touch = { trigger: { touch: { bodies: [3] } }, action: { split: { count: 6, particles: null } } };

  test("reads as sentences, and opens to what each says", () => {
    show(
      EventList,
      sparks({ events: [touch, { trigger: { age: { age_s: 2 } }, action: { die: {} }, probability: 0.5 }] }),
    );
    const first = button("When it touches Quay, split into 6 of its own.");
    expect(button("2 s after its birth, die; 50 % do.")).toBeTruthy();
    expect(first.getAttribute("aria-expanded")).toBe("false");
    press(first);
    expect(first.getAttribute("aria-expanded")).toBe("true");
    expect([box("Quay").checked, box("Crate").checked]).toEqual([true, false]);
  });

  test("is added at the end and taken away by itself", () => {
    const set = vi.spyOn(shot, "set").mockResolvedValue(true);
    show(EventList, sparks({ events: [touch, touch] }));
    press(button("Add a sentence"));
    const [, , path, value] = set.mock.calls[0];
    expect([path, value]).toEqual([
      "/kind/particles/events/-",
      { trigger: { touch: {} }, action: { die: {} } },
    ]);
    press(button(/^Remove: /));
    const change = set.mock.calls[1][3] as (old: unknown[]) => unknown[];
    expect(change(["first", "second"])).toEqual(["second"]);
  });

  test("names what was deleted meanwhile as that", () => {
    show(EventList, sparks({ events: [{ trigger: { end: {} }, action: { become: { particles: 77 } } }] }));
    expect(button("At the end of its life, become something deleted.")).toBeTruthy();
  });
});

describe("colours and sizes along something", () => {
  test("are added after the last, and each can be taken away", () => {
    const set = vi.spyOn(values, "assign").mockResolvedValue(true);
    const { element } = sparks({ appearance: { colours: [{ at: 0, colour: [1, 0.5, 0] }] } });
    show(RampStops, { element, list: "colours", stops: [{ at: 0, colour: [1, 0.5, 0] }] });
    press(button("Add a colour"));
    const add = set.mock.calls[0][2] as (old: unknown) => unknown;
    expect(add(undefined)).toEqual([{ at: 0, colour: [1, 1, 1] }]);
    expect(add([{ at: 0.5, colour: [1, 0, 0] }])).toEqual([
      { at: 0.5, colour: [1, 0, 0] },
      { at: 0.75, colour: [1, 0, 0] },
    ]);
    press(button("Remove stop 1"));
    expect((set.mock.calls[1][2] as (old: unknown[]) => unknown[])(["a", "b"])).toEqual(["b"]);
  });

  test("sizes begin at their own size", () => {
    const set = vi.spyOn(values, "assign").mockResolvedValue(true);
    show(RampStops, { element: sparks().element, list: "sizes", stops: [] });
    press(button("Add a size"));
    expect((set.mock.calls[0][2] as (old: unknown) => unknown)([])).toEqual([{ at: 0, size: 1 }]);
  });
});

describe("emission", () => {
  test("show what their source needs, and no more", () => {
    show(
      EmissionTab,
      sparks({ source: { shape: { shape: { box: { size_m: [1, 1, 1] } }, domain: "volume" } } }),
    );
    expect(labels()).toContain("Of it");
    expect(labels()).toContain("Size x");
    expect(box("Evenly spaced").checked).toBe(false);
  });

  test("of hits have a least impulse and no likely places", () => {
    show(
      EmissionTab,
      sparks({ source: { impacts: { impulse_n_s: 2 } }, emission: { schedule: { total: { count: 5 } } } }),
    );
    expect(labels()).toContain("Least impulse, N s");
    expect(labels()).not.toContain("Likely by");
    expect(document.body.textContent).not.toContain("Evenly spaced");
  });

  test("go by a map where there are UVs, and only there", () => {
    const at = (from: object) => {
      clear();
      show(EmissionTab, sparks({ source: from }));
      return labels().includes("Map");
    };
    const plane = { plane: { size_m: [1, 1] } };
    expect(at({ grid: { count: [4, 1, 4], spacing_m: [1, 1, 1] } })).toBe(true);
    expect(at({ shape: { shape: plane, domain: "surface" } })).toBe(true);
    expect(at({ shape: { shape: plane, domain: "volume" } })).toBe(false);
    expect(at({ point: {} })).toBe(false);
  });

  test("by an image of the shot can go by what is dark, or only carry it", () => {
    const made = changes();
    const map = { source: { image: { asset: "moon" } }, inverted: true };
    show(EmissionTab, sparks({ source: { grid: { count: [4, 1, 4] } }, emission: { map } }));
    expect(document.body.textContent).toContain("brightness of moon");
    const dark = box("Dark counts, not bright");
    expect([dark.checked, box("Only for colour and size").checked]).toEqual([true, false]);
    press(dark);
    press(box("Only for colour and size"));
    const path = "/elements/2/kind/particles/emission/map";
    expect(made).toEqual([
      ["Dark counts, not bright of Sparks", { op: "add", path: `${path}/inverted`, value: false }],
      ["Only for colour and size of Sparks", { op: "add", path: `${path}/uniform_births`, value: true }],
    ]);
  });

  test("change on all that are selected, where those have the value", async () => {
    const { element } = sparks({ start: {}, emission: { schedule: { burst: { count: 5 } } } });
    const others = [
      {
        id: 10,
        name: "Dust",
        kind: { particles: { start: {}, emission: { schedule: { burst: { count: 8 } } } } },
      },
      {
        id: 11,
        name: "Mist",
        kind: { particles: { start: {}, emission: { schedule: { rate: { per_s: 3 } } } } },
      },
    ];
    shot.state!.document.elements.push(...(others as unknown as Element[]));
    selection.set([9, 10, 11]);
    const made = changes();
    show(EmissionTab, { element, particles: { emission: { schedule: { burst: { count: 5 } } } } });
    const field = document.querySelector<HTMLInputElement>("[aria-label=Number]")!;
    expect([field.value, field.placeholder]).toEqual(["", "differ"]);
    field.value = "7";
    field.dispatchEvent(new Event("input", { bubbles: true }));
    field.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
    await choose("Direction", "out of the surface");
    const count = "kind/particles/emission/schedule/burst/count";
    expect(made[0]).toEqual([
      "Number of Sparks and 1 more",
      { op: "add", path: `/elements/2/${count}`, value: 7 },
      { op: "add", path: `/elements/3/${count}`, value: 7 },
    ]);
    expect(made[1].slice(1)).toHaveLength(3);
    selection.none();
  });

  test("on a point lose a map that they had", async () => {
    let made: Operation[] = [];
    vi.spyOn(shot, "edit").mockImplementation(async (_, make) => {
      made = make(shot.document as Shot);
      return true;
    });
    const map = { source: { vertices: {} } };
    show(EmissionTab, sparks({ source: { solid: { solid: 3, domain: "surface" } }, emission: { map } }));
    await choose("Born on", "a point");
    expect(made).toEqual([
      { op: "add", path: "/elements/2/kind/particles/source", value: { point: {} } },
      { op: "add", path: "/elements/2/kind/particles/emission/map", value: null },
    ]);
    await choose("Born on", "a grid of points");
    expect(made).toHaveLength(1);
  });

  test("of a solid as it breaks are a number for each, inside it, of what breaks at all", async () => {
    let made: Operation[] = [];
    vi.spyOn(shot, "edit").mockImplementation(async (_, make) => {
      made = make(shot.document as Shot);
      return true;
    });
    show(EmissionTab, sparks({}));
    await choose("Born on", "Crate as it breaks");
    expect([...document.querySelectorAll("[role=option]")].map((o) => o.textContent)).not.toContain(
      "Quay as it breaks",
    );
    expect(made).toEqual([
      {
        op: "add",
        path: "/elements/2/kind/particles/source",
        value: { broken: { solid: 4, domain: "volume" } },
      },
      { op: "add", path: "/elements/2/kind/particles/emission/schedule", value: { total: { count: 100 } } },
    ]);
    clear();
    const map = { source: { image: { asset: "moon" } } };
    const how = { burst: { count: 7 } };
    show(EmissionTab, sparks({ source: { grid: { count: [4, 1, 4] } }, emission: { map, schedule: how } }));
    await choose("Born on", "Crate as it breaks");
    // A map stays, where it has weight, and so does the number.
    expect(made.map((change) => ("value" in change ? change.value : null))).toEqual([
      { broken: { solid: 4, domain: "surface" } },
      { total: { count: 7 } },
    ]);
    clear();
    show(
      EmissionTab,
      sparks({
        source: { broken: { solid: 4, domain: "surface" } },
        emission: { schedule: { total: { count: 5 } } },
      }),
    );
    for (const label of ["Of it", "Map", "Likely by"]) expect(labels()).toContain(label);
    expect(document.body.textContent).toContain("a number for each body");
  });

  test("go by the colours of vertices only on imported meshes", async () => {
    const offered = async (from: object) => {
      clear();
      show(EmissionTab, sparks({ source: from }));
      await choose("Map", "none");
      return [...document.querySelectorAll("[role=option]")].map((o) => o.textContent!.trim());
    };
    const on = "surface";
    expect(await offered({ shape: { shape: { mesh: { asset: "gull", scale: 1 } }, on } })).toContain(
      "colours of its vertices",
    );
    expect(await offered({ solid: { solid: 4, on } })).not.toContain("colours of its vertices");
  });

  test("of others only have neither a rate nor a span", () => {
    show(EmissionTab, sparks({ emission: { schedule: { never: {} } } }));
    for (const label of ["Rate, per s", "From frame", "Preroll, s"]) expect(labels()).not.toContain(label);
  });
});

describe("what particles look like", () => {
  test("a copy is kept while it is the only one", () => {
    const made = changes();
    const say = vi.spyOn(notices, "say").mockImplementation(() => undefined);
    show(ShowTab, sparks({ appearance: { form: { instance: { solids: [3] } } } }));
    press(box("Quay"));
    expect(say).toHaveBeenCalledWith("Particles that are copies need one solid at least.");
    press(box("Crate"));
    const path = "/elements/2/kind/particles/appearance/form/instance/solids";
    expect(made).toEqual([["Copies of Sparks", { op: "add", path, value: [3, 4] }]]);
  });

  test("judging stays with the element and changes nothing of the shot", () => {
    const [set, edit] = [vi.spyOn(values, "set"), vi.spyOn(shot, "edit")];
    sparks();
    judging.set(9, { every: 4 });
    judging.set(9, { by: "speed" });
    expect(judging.of(9)).toEqual({ by: "speed", every: 4 });
    expect(judging.of(8)).toEqual({ by: null, every: 1 });
    expect([set.mock.calls.length, edit.mock.calls.length]).toEqual([0, 0]);
  });
});

describe("bodies that came from particles", () => {
  const body = () => document.body.textContent!;

  test("stay bodies until it is said when they go back", async () => {
    const set = vi.spyOn(shot, "set").mockResolvedValue(true);
    sparks();
    show(ToParticlesFields, { element: CRATE, back: null });
    expect(body()).toContain("never");
    await choose("Particles again", "once it is slower than");
    const slower = { slower: { speed_m_s: 0.05 } };
    expect(set).toHaveBeenCalledWith("Return of Crate", [4], "/kind/solid/to_particles", {
      trigger: slower,
      particles: 9,
    });
  });

  test("need particles, and for a region one", async () => {
    const set = vi.spyOn(shot, "set").mockResolvedValue(true);
    const say = vi.spyOn(notices, "say").mockImplementation(() => undefined);
    sparks();
    show(ToParticlesFields, { element: CRATE, back: null });
    await choose("Particles again", "when in a region");
    expect(say).toHaveBeenLastCalledWith("There is no region. Add one first.");
    shot.state = { ...shot.state!, document: { ...shot.document!, elements: [CRATE] } } as never;
    flushSync();
    await choose("Particles again", "at a frame");
    expect(say).toHaveBeenLastCalledWith("There are no particles. Add some first.");
    expect(set).not.toHaveBeenCalled();
  });

  test("say when, and which particles they become", () => {
    sparks();
    show(ToParticlesFields, { element: CRATE, back: { trigger: { frame: { frame: 40 } }, particles: 9 } });
    expect(document.querySelector("[aria-label=Frame]")).toBeTruthy();
    expect(body()).toContain("Sparks");
  });
});

test("emission and deaths are told for the frame that is shown, backwards too", () => {
  const { element } = sparks();
  const frames = Array.from({ length: 24 }, (_, i) => i + 1);
  const rising = frames.map((frame) => frame * 1000);
  const particles = [{ element: 9, alive: rising, born: rising, gone: rising.map(() => 0) }];
  measured.run = { frames, particles } as never;
  playback.backwards = false;
  playback.frame = 2;
  show(TurnoverLane, { element, colour: "red", at: (frame: number) => frame, scrub: () => undefined });
  const alive = () => document.querySelector("[data-testid=alive]")!.textContent;
  expect(alive()).toBe("2,000");
  playback.backwards = true;
  flushSync();
  expect(alive()).toBe("23,000");
  playback.backwards = false;
});

test("the lists change places in one change", async () => {
  let made: Operation[] = [];
  vi.spyOn(shot, "edit").mockImplementation(async (_, make) => {
    made = make(shot.document as Shot);
    return true;
  });
  const { element } = sparks();
  show(ElementFilterFields, {
    element,
    path: "kind.particles.contact",
    lists: { only: [3] },
    label: "Which",
    says: "Bodies met",
    offered: [QUAY],
  });
  await choose("Which", "all except those ticked");
  expect(made).toEqual([
    { op: "add", path: "/elements/2/kind/particles/contact", value: { only: [], except: [3] } },
  ]);
});
