// The open shot: its document, and changes to it. Every change is saved as it is made.
import {
  api,
  Problem,
  type Element,
  type Operation,
  type Particles,
  type Shot,
  type ShotState,
  type Solid,
} from "../api/client";
import { notices } from "./notices.svelte";
import { selection } from "./selection.svelte";

/** A name that is not taken: numbered if need be. */
export function freeName(name: string, taken: Set<string>): string {
  let free = name;
  for (let n = 2; taken.has(free); n++) free = `${name} ${n}`;
  return free;
}

class OpenShot {
  id = $state<number | null>(null);
  state = $state.raw<ShotState | null>(null);
  saving = $state(0);
  #queue: Promise<unknown> = Promise.resolve();

  get document(): Shot | null {
    return this.state?.document ?? null;
  }

  get elements(): Element[] {
    return this.document?.elements ?? [];
  }

  element(id: number): Element | undefined {
    return this.elements.find((element) => element.id === id);
  }

  get selected(): Element | undefined {
    return selection.ids.length ? this.element(selection.ids[selection.ids.length - 1]) : undefined;
  }

  /** The id of the next element: none of those that were deleted had it. */
  nextElement(shot: Shot): number {
    const highest = Math.max(0, ...shot.elements.map((element) => element.id));
    return Math.max(highest + 1, this.state?.next_element ?? 0);
  }

  async open(id: number) {
    this.id = id;
    this.state = null;
    this.state = (await notices.attempt(() => api.shot(id))) ?? null;
  }

  /** Takes up a change made elsewhere. */
  async refresh() {
    const id = this.id;
    if (id === null || this.saving > 0) return;
    const state = await notices.attempt(() => api.shot(id));
    if (state && this.id === id && this.saving === 0) this.take(state);
  }

  take(state: ShotState | undefined) {
    if (!state || state.id !== this.id) return;
    keepSame(this.elements, state.document);
    this.state = state;
    selection.keepOnly(state.document.elements.map((element) => element.id));
  }

  /** Saves a change. `make` gets the newest document and gives the operations. */
  edit(label: string, make: (shot: Shot) => Operation[]): Promise<boolean> {
    return this.change(label, ({ id, revision, document }) => api.patch(id, revision, label, make(document)));
  }

  /** Makes a change by a request that gets the newest state, after all changes made so far. */
  change(label: string, ask: (state: ShotState) => Promise<ShotState>): Promise<boolean> {
    this.saving++;
    const done = this.#queue.then(() => this.#save(label, ask)).finally(() => this.saving--);
    this.#queue = done.catch(() => undefined);
    return done;
  }

  /** Once every change made so far is saved, or refused. */
  get settled(): Promise<unknown> {
    return this.#queue;
  }

  async #save(label: string, ask: (state: ShotState) => Promise<ShotState>): Promise<boolean> {
    const current = this.state;
    if (!current) return false;
    try {
      this.take(await ask(current));
      return true;
    } catch (error) {
      if (error instanceof Problem && error.changedElsewhere) {
        this.state = await api.shot(current.id);
        notices.say(`The shot was changed in another window. “${label}” was not saved yet.`, {
          grave: true,
          action: { label: "Apply it now", run: () => void this.change(label, ask) },
        });
      } else {
        notices.say(error instanceof Error ? error.message : String(error), { grave: true });
        // The fields show again what is saved.
        this.state = { ...current };
      }
      return false;
    }
  }

  /**
   * Sets a part of elements, by its path below the element. A function gets
   * the part at the time of saving, and returns the new one.
   */
  set(label: string, ids: number[], path: string, value: unknown) {
    return this.edit(label, (shot) =>
      ids.flatMap((id) => {
        const index = shot.elements.findIndex((element) => element.id === id);
        if (index < 0) return [];
        const next = typeof value === "function" ? value(partOf(shot.elements[index], path)) : value;
        return [{ op: "add" as const, path: `/elements/${index}${path}`, value: next }];
      }),
    );
  }

  add(
    name: string,
    kind: Element["kind"],
    place: [number, number, number],
    turn: [number, number, number] = [0, 0, 0],
    channels?: Element["channels"],
  ) {
    let id = 0;
    return this.edit(`${name} added`, (shot) => {
      id = this.nextElement(shot);
      const taken = new Set(shot.elements.map((element) => element.name));
      const element = {
        id,
        name: freeName(name, taken),
        placement: { position_m: place, orientation_rad: turn },
        kind,
        ...(channels ? { channels } : {}),
      };
      const operations: Operation[] = [{ op: "add", path: "/elements/-", value: element }];
      if ("camera" in kind && shot.camera == null) operations.push({ op: "add", path: "/camera", value: id });
      return operations;
    }).then((saved) => {
      if (saved) selection.only(id);
      return saved;
    });
  }

  /** Deletes elements, and what names them. */
  remove(ids: number[]): Promise<boolean> {
    const names = ids.map((id) => this.element(id)?.name).join(", ");
    return this.change(`${names} deleted`, ({ id, revision }) => api.deleteElements(id, revision, ids));
  }

  duplicate(ids: number[]) {
    const made: number[] = [];
    return this.edit("Duplicated", (shot) => {
      let next = this.nextElement(shot) - 1;
      const taken = new Set(shot.elements.map((element) => element.name));
      return ids.flatMap((id) => {
        const element = shot.elements.find((element) => element.id === id);
        if (!element) return [];
        const stem = element.name.replace(/ \d+$/, "");
        const name = freeName(stem, taken);
        taken.add(name);
        made.push(++next);
        return [
          { op: "add" as const, path: "/elements/-", value: { ...structuredClone(element), id: next, name } },
        ];
      });
    }).then((saved) => {
      if (saved) selection.set(made);
      return saved;
    });
  }

  undo = () => this.#walk("undo");
  redo = () => this.#walk("redo");

  /** Goes a step through the history, after all changes and steps made so far. */
  #walk(way: "undo" | "redo"): Promise<void> {
    this.saving++;
    const step = async () => {
      const { state } = this;
      if (state?.[way]) this.take(await notices.attempt(() => api[way](state.id, state.revision)));
    };
    const done = this.#queue.then(step).finally(() => this.saving--);
    this.#queue = done.catch(() => undefined);
    return done;
  }
}

/** Keeps the objects of unchanged elements, so that nothing is drawn anew for them. */
function keepSame(before: Element[], next: Shot) {
  const known = new Map(before.map((element) => [element.id, element]));
  next.elements = next.elements.map((element) => {
    const old = known.get(element.id);
    return old && JSON.stringify(old) === JSON.stringify(element) ? old : element;
  });
}

/** The part at a path such as `/kind/sun/colour`. */
function partOf(element: Element, path: string): unknown {
  const parts = path.split("/").slice(1);
  return parts.reduce<unknown>((at, part) => (at as Record<string, unknown> | undefined)?.[part], element);
}

/** What a solid can be made as. */
export type MadeAs = "rigid" | "cloth" | "soft";

/** What an element is made as: only a free solid is a cloth or a soft body. */
export function madeAs(element: Element | undefined): MadeAs {
  const solid = solidOf(element);
  if (!solid || (solid.body?.moves ?? "free") !== "free") return "rigid";
  return solid.cloth != null ? "cloth" : solid.soft != null ? "soft" : "rigid";
}

/** Whether an element is a cloth or a soft body. */
export const deforms = (element: Element) => madeAs(element) !== "rigid";

export function solidOf(element: Element | undefined): Solid | undefined {
  return element && "solid" in element.kind ? element.kind.solid : undefined;
}

export function particlesOf(element: Element | undefined): Particles | undefined {
  return element && "particles" in element.kind ? element.kind.particles : undefined;
}

/** Number of bodies: 1, or the number of copies, or the most that may come from particles. */
export function countOf(element: Element): number {
  const { copies, from_particles, placed } = solidOf(element) ?? {};
  if (from_particles != null) return from_particles;
  if (placed?.length) return placed.length;
  return copies ? copies.count.reduce((a, b) => a * b, 1) : 1;
}

export const shot = new OpenShot();
