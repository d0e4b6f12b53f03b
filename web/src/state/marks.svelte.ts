// Keys chosen on the Timeline, and what can be done with them.
import type { Element, Operation, Shot } from "../api/client";
import { nameOf } from "./channels";
import {
  keysOf,
  channelsOf,
  withConstantSpeed,
  withFrames,
  withKeys,
  withMirrored,
  withThen,
  withoutKey,
  type Channel,
  type Interpolation,
  type Key,
} from "./keys";
import { playback } from "./playback.svelte";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";
import { pointer } from "./target";
import { channelOperations } from "./values.svelte";

/** A key of one value of an element, or, without a path, all its keys at a frame. */
export interface Mark {
  element: number;
  path: string | null;
  frame: number;
}

const same = (a: Mark, b: Mark) => a.element === b.element && a.path === b.path && a.frame === b.frame;

interface Copied {
  element: number;
  path: string;
  keys: Key[];
}

/** The operations that change each channel with chosen keys; `change` gets their frames. */
export function changeChannels(
  document: Shot,
  marks: Mark[],
  change: (channel: Channel, frames: number[]) => Channel | null,
): Operation[] {
  const operations: Operation[] = [];
  for (const element of document.elements) {
    const own = marks.filter((mark) => mark.element === element.id);
    if (own.length === 0) continue;
    let now: Element = element;
    for (const [path, channel] of Object.entries(channelsOf(element))) {
      const frames = own.filter((mark) => mark.path === null || mark.path === path).map((mark) => mark.frame);
      const there = frames.filter((frame) => keysOf(channel).some((key) => key.frame === frame));
      if (there.length === 0) continue;
      const next = change(channel, [...new Set(there)]);
      const channels = { ...channelsOf(now) };
      const view = { ...document, elements: document.elements.map((e) => (e.id === element.id ? now : e)) };
      operations.push(...channelOperations(view as Shot, element.id, path, next));
      if (next === null) {
        delete channels[path];
        // The value stays as its last key had it.
        const last = keysOf(channel).at(-1);
        if (last) operations.push(baseOperation(document, element.id, path, last.value));
      } else channels[path] = next;
      now = { ...now, channels } as Element;
    }
  }
  return operations;
}

function baseOperation(document: Shot, id: number, path: string, value: unknown): Operation {
  const index = document.elements.findIndex((e) => e.id === id);
  return { op: "add", path: `/elements/${index}${pointer(path)}`, value };
}

class Marks {
  list = $state.raw<Mark[]>([]);
  /** Frames by which the chosen keys are being dragged. */
  dragged = $state(0);
  /** Elements whose values are shown as curves. */
  open = $state.raw<number[]>([]);
  #copied: Copied[] = [];

  has(mark: Mark): boolean {
    return this.list.some((other) => same(other, mark));
  }

  pick(mark: Mark, add: boolean) {
    if (!add) this.list = this.has(mark) && this.list.length > 1 ? this.list : [mark];
    else this.list = this.has(mark) ? this.list.filter((other) => !same(other, mark)) : [...this.list, mark];
  }

  none() {
    this.list = [];
  }

  /** Chooses a key and drags it along the frames; a press that moves nothing is told apart. */
  drag(event: PointerEvent, mark: Mark, framesPerPixel: number, pressed: () => unknown = () => {}) {
    this.pick(mark, event.shiftKey);
    const start = event.clientX;
    const by = (e: PointerEvent) => Math.round((e.clientX - start) * framesPerPixel);
    const move = (e: PointerEvent) => (this.dragged = by(e));
    const done = (e: PointerEvent) => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
      removeEventListener("pointercancel", done);
      this.dragged = 0;
      if (e.type !== "pointerup") return;
      if (by(e) === 0) pressed();
      else void this.nudge(by(e));
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
    addEventListener("pointercancel", done);
  }

  toggleOpen(element: number) {
    this.open = this.open.includes(element)
      ? this.open.filter((id) => id !== element)
      : [...this.open, element];
  }

  get canPaste(): boolean {
    return this.#copied.length > 0;
  }

  get frames(): number[] {
    return [...new Set(this.list.map((mark) => mark.frame))].sort((a, b) => a - b);
  }

  /** What a change of the keys is called. */
  #words(what: string): string {
    const paths = [...new Set(this.list.map((mark) => mark.path))];
    const name = shot.element(this.list[0]?.element)?.name;
    const of = paths.length === 1 && paths[0] ? ` of ${nameOf(paths[0]).toLowerCase()}` : "";
    return `Keys${of} of ${name} ${what}`;
  }

  #change(
    what: string,
    change: (channel: Channel, frames: number[]) => Channel | null,
    to?: (frame: number) => number,
  ) {
    if (this.list.length === 0) return Promise.resolve(false);
    const marks = this.list;
    if (to) this.list = marks.map((mark) => ({ ...mark, frame: Number(to(mark.frame).toFixed(3)) }));
    return shot.edit(this.#words(what), (document) => changeChannels(document, marks, change));
  }

  #move(what: string, to: (frame: number) => number) {
    return this.#change(what, (channel, frames) => withFrames(channel, frames, to), to);
  }

  nudge(by: number) {
    return by === 0 ? Promise.resolve(false) : this.#move("moved", (frame) => frame + by);
  }

  /** Stretches the chosen keys in time about the first. */
  scale(factor: number) {
    const first = this.frames[0];
    return this.#move("stretched", (frame) => first + Math.round((frame - first) * factor));
  }

  mirror() {
    const [first, last] = [this.frames[0], this.frames.at(-1)!];
    return this.#change("mirrored", (channel, frames) => withMirrored(channel, frames, first, last));
  }

  /** Puts the chosen keys once more after the last of them. */
  repeat() {
    const [first, last] = [this.frames[0], this.frames.at(-1)!];
    const length = last - first || 1;
    return this.#change("repeated", (channel, frames) =>
      withKeys(
        channel,
        keysOf(channel)
          .filter((key) => frames.includes(key.frame) && (key.frame > first || frames.length === 1))
          .map((key) => ({ ...key, frame: key.frame + length })),
      ),
    );
  }

  remove() {
    const done = this.#change("removed", (channel, frames) =>
      frames.reduce<Channel | null>((left, frame) => left && withoutKey(left, frame), channel),
    );
    this.none();
    return done;
  }

  go(then: Interpolation) {
    return this.#change(`go on ${then.replace("_", " ")}`, (channel, frames) =>
      withThen(channel, frames, then),
    );
  }

  constantSpeed() {
    const done = this.#change("at constant speed", withConstantSpeed);
    this.none();
    return done;
  }

  copy() {
    const document = shot.document;
    if (!document || this.list.length === 0) return;
    const first = this.frames[0];
    this.#copied = [];
    for (const element of document.elements)
      for (const [path, channel] of Object.entries(channelsOf(element))) {
        const chosen = (key: Key) =>
          this.list.some(
            (m) => m.element === element.id && m.frame === key.frame && (m.path === null || m.path === path),
          );
        const keys = keysOf(channel).filter(chosen);
        if (keys.length > 0)
          this.#copied.push({
            element: element.id,
            path,
            keys: keys.map((key) => ({ ...key, frame: key.frame - first })),
          });
      }
  }

  /** Puts copied keys at the frame shown: on the selected element if they came from one other. */
  paste() {
    const copied = this.#copied;
    const sources = new Set(copied.map((entry) => entry.element));
    const other = sources.size === 1 && selection.ids.length === 1 ? selection.ids[0] : null;
    const frame = playback.frame;
    return shot.edit("Keys pasted", (document) => {
      let view = document;
      return copied.flatMap(({ element, path, keys }) => {
        const id = other ?? element;
        const to = view.elements.find((e) => e.id === id);
        if (!to) return [];
        const channel = channelsOf(to)[path];
        const next = withKeys(
          channel,
          keys.map((key) => ({ ...key, frame: key.frame + frame })),
        );
        const operations = channelOperations(view, id, path, next);
        const channels = { ...channelsOf(to), [path]: next };
        view = {
          ...view,
          elements: view.elements.map((e) => (e.id === id ? ({ ...e, channels } as Element) : e)),
        };
        return operations;
      });
    });
  }
}

export const marks = new Marks();
