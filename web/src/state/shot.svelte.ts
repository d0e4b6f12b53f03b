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
    this.saving++;
    const done = this.#queue.then(() => this.#save(label, make)).finally(() => this.saving--);
    this.#queue = done.catch(() => undefined);
    return done;
  }

  /** Once every change made so far is saved, or refused. */
  get settled(): Promise<unknown> {
    return this.#queue;
  }

  async #save(label: string, make: (shot: Shot) => Operation[]): Promise<boolean> {
    const current = this.state;
    if (!current) return false;
    try {
      this.take(await api.patch(current.id, current.revision, label, make(current.document)));
      return true;
    } catch (error) {
      if (error instanceof Problem && error.changedElsewhere) {
        this.state = await api.shot(current.id);
        notices.say(`The shot was changed in another window. “${label}” was not saved yet.`, {
          grave: true,
          action: { label: "Apply it now", run: () => void this.edit(label, make) },
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
   * the part as it is when the change's turn comes, and gives what it is to be.
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
    is: Element["is"],
    place: [number, number, number],
    turn: [number, number, number] = [0, 0, 0],
  ) {
    let id = 0;
    return this.edit(`${name} added`, (shot) => {
      id = Math.max(0, ...shot.elements.map((element) => element.id)) + 1;
      const taken = new Set(shot.elements.map((element) => element.name));
      let free = name;
      for (let n = 2; taken.has(free); n++) free = `${name} ${n}`;
      const element = { id, name: free, placement: { place_m: place, turn_rad: turn }, is };
      const operations: Operation[] = [{ op: "add", path: "/elements/-", value: element }];
      if ("camera" in is && shot.camera == null) operations.push({ op: "add", path: "/camera", value: id });
      return operations;
    }).then((saved) => {
      if (saved) selection.only(id);
      return saved;
    });
  }

  remove(ids: number[]) {
    const names = ids.map((id) => this.element(id)?.name).join(", ");
    return this.edit(`${names} deleted`, (shot) => {
      const operations: Operation[] = [];
      shot.elements.forEach((element, index) => {
        if (!ids.includes(element.id)) operations.push(...withoutReferences(element, index, ids));
      });
      if (shot.camera != null && ids.includes(shot.camera)) {
        const other = shot.elements.find((element) => "camera" in element.is && !ids.includes(element.id));
        operations.push({ op: "add", path: "/camera", value: other?.id ?? null });
      }
      for (let index = shot.elements.length - 1; index >= 0; index--)
        if (ids.includes(shot.elements[index].id))
          operations.push({ op: "remove", path: `/elements/${index}` });
      return operations;
    });
  }

  duplicate(ids: number[]) {
    const made: number[] = [];
    return this.edit("Duplicated", (shot) => {
      let next = Math.max(0, ...shot.elements.map((element) => element.id));
      const taken = new Set(shot.elements.map((element) => element.name));
      return ids.flatMap((id) => {
        const element = shot.elements.find((element) => element.id === id);
        if (!element) return [];
        const stem = element.name.replace(/ \d+$/, "");
        let name = stem;
        for (let n = 2; taken.has(name); n++) name = `${stem} ${n}`;
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

  async undo() {
    // What was changed just now is what is meant.
    await this.settled;
    if (this.id !== null && this.state?.undo) this.take(await notices.attempt(() => api.undo(this.id!)));
  }

  async redo() {
    await this.settled;
    if (this.id !== null && this.state?.redo) this.take(await notices.attempt(() => api.redo(this.id!)));
  }
}

/** What has to change in an element when others that it refers to go. */
function withoutReferences(element: Element, index: number, gone: number[]): Operation[] {
  const operations: Operation[] = [];
  const at = `/elements/${index}`;
  const clear = (path: string, value: unknown = null) =>
    operations.push({ op: "add", path: at + path, value });
  const isGone = (id: number | null | undefined) => id != null && gone.includes(id);
  if (isGone(element.aim?.at)) clear("/aim");
  if (isGone(element.attached?.to)) clear("/attached");
  const wake = solidOf(element)?.body?.wake;
  if (wake && "region" in wake && isGone(wake.region)) clear("/is/solid/body/wake");
  if ("force" in element.is) {
    const { kind, region, only, except } = element.is.force;
    if (isGone(region)) clear("/is/force/region");
    for (const [name, list] of [
      ["only", only],
      ["except", except],
    ] as const)
      if (list?.some((who) => typeof who === "number" && isGone(who)))
        clear(
          `/is/force/${name}`,
          list.filter((who) => typeof who !== "number" || !isGone(who)),
        );
    if ("attract" in kind && isGone(kind.attract.to)) clear("/is/force/kind/attract/to");
  }
  if ("region" in element.is && "combined" in element.is.region.volume) {
    const parts = element.is.region.volume.combined.parts;
    if (parts.some((part) => isGone(part.region)))
      clear(
        "/is/region/volume/combined/parts",
        parts.filter((part) => !isGone(part.region)),
      );
  }
  return operations;
}

/** Elements that are as they were stay the same objects, so that nothing is drawn anew for them. */
function keepSame(before: Element[], next: Shot) {
  const known = new Map(before.map((element) => [element.id, element]));
  next.elements = next.elements.map((element) => {
    const old = known.get(element.id);
    return old && JSON.stringify(old) === JSON.stringify(element) ? old : element;
  });
}

/** The part at a path such as `/is/sun/colour`. */
function partOf(element: Element, path: string): unknown {
  const parts = path.split("/").slice(1);
  return parts.reduce<unknown>((at, part) => (at as Record<string, unknown> | undefined)?.[part], element);
}

export function solidOf(element: Element | undefined): Solid | undefined {
  return element && "solid" in element.is ? element.is.solid : undefined;
}

export function particlesOf(element: Element | undefined): Particles | undefined {
  return element && "particles" in element.is ? element.is.particles : undefined;
}

/** Number of bodies: 1, or the number of copies, or the most that may come from particles. */
export function countOf(element: Element): number {
  const { copies, from_particles } = solidOf(element) ?? {};
  if (from_particles != null) return from_particles;
  return copies ? copies.count.reduce((a, b) => a * b, 1) : 1;
}

export const shot = new OpenShot();
