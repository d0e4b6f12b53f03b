// Performing: the shot plays, the simulation answers, and dragged values become keys.
import { Performance, type Kept } from "../api/client";
import type { ViewportFrame } from "../viewport/frames";
import type { Handle, Moved } from "../viewport/handles";
import { relative } from "./attaching";
import type { Value } from "./keys";
import { notices } from "./notices.svelte";
import { playback } from "./playback.svelte";
import { selection } from "./selection.svelte";
import { shot, solidOf } from "./shot.svelte";
import { meant, type Target } from "./target";

export interface Held {
  element: number | null;
  path: string;
  value: Value;
}

type State = "off" | "preparing" | "on" | "saving";

class Performing {
  armed = $state(false);
  state = $state<State>("off");
  /** The last frame the simulation answered with. */
  frame = $state.raw<ViewportFrame | null>(null);
  /** Tolerance of the fitted keys: mm, degrees, percent of the range of values. */
  within = $state({ place: 10, turn: 0.5, other: 0.5 });
  /** The samples taken so far, by element and path. */
  taken = $state<string[]>([]);
  #held = new Map<string, Held & { released: boolean }>();
  /** The placement that elements had at the last answer. */
  #placements = new Map<number, { position_m?: number[]; orientation_rad?: number[] }>();
  #performance: Performance | null = null;
  #waiting = false;
  #due = 0;
  #timer: number | undefined;

  get on(): boolean {
    return this.state === "on";
  }

  /** Why the selection cannot be performed; null if it can. */
  get hindrance(): string | null {
    const idle = selection.ids
      .map((id) => shot.element(id))
      .find((element) => {
        const body = solidOf(element)?.body;
        if (!body) return false;
        return body.moves === "still" || (body.moves !== "animated" && !body.wake);
      });
    if (!idle) return null;
    const moves = solidOf(idle)?.body?.moves === "still" ? "still" : "free from the start";
    return `${idle.name} is ${moves}: only its sliders can be performed. To lead it by hand, make it animated.`;
  }

  toggle() {
    if (this.state === "on") void this.stop();
    else if (this.state === "off") void this.start();
  }

  /** Plays from the frame shown, and takes samples. */
  async start() {
    const id = shot.id;
    if (id === null || this.state !== "off") return;
    this.state = "preparing";
    playback.pause();
    await shot.settled;
    if (playback.frame >= playback.last) playback.go(playback.first);
    this.taken = [];
    this.#held.clear();
    this.#placements.clear();
    this.#performance = new Performance(id, playback.frame, {
      ready: () => {
        this.state = "on";
        this.#due = performance.now() + 1000 / this.#rate;
        this.#plan();
      },
      answered: (number, frame) => this.#answered(number, frame),
      kept: (kept) => this.#kept(kept),
      ended: (why) => this.#ended(why),
    });
  }

  /** Frames a second. */
  get #rate(): number {
    return (shot.document?.timing.fps ?? 24) * playback.rate;
  }

  /** Holds a value at a dragged one until its release. */
  hold(target: Target, value: Value) {
    const ids = target.element ? meant(target).map(({ id }) => id) : [null];
    for (const element of ids) this.#hold({ element, path: target.path, value });
  }

  /** Releases the value at a path. */
  release(target: Target) {
    const ids = target.element ? meant(target).map(({ id }) => id) : [null];
    for (const element of ids) this.#release(element, target.path);
  }

  /** Takes where the handles are. */
  move(handle: Handle, moved: Moved[]) {
    for (const { id, place, turn } of moved) {
      let next = { position_m: place, orientation_rad: turn };
      const world = this.frame?.get(id);
      const local = this.#placements.get(id) ?? shot.element(id)?.placement;
      if (shot.element(id)?.attached && world && local) next = relative(local, world, next);
      const path = handle === "move" ? "position_m" : "orientation_rad";
      this.#hold({ element: id, path: `placement.${path}`, value: next[path] });
    }
  }

  /** Releases the elements that the handles moved. */
  drop(ids: number[]) {
    for (const id of ids)
      for (const path of ["placement.position_m", "placement.orientation_rad"]) this.#release(id, path);
  }

  #hold(held: Held) {
    if (this.state !== "on") return;
    const key = `${held.element} ${held.path}`;
    if (!this.taken.includes(key)) this.taken = [...this.taken, key];
    this.#held.set(key, { ...held, released: false });
  }

  #release(element: number | null, path: string) {
    const held = this.#held.get(`${element} ${path}`);
    if (held) held.released = true;
  }

  #plan() {
    clearTimeout(this.#timer);
    if (this.state !== "on" || this.#waiting) return;
    this.#timer = window.setTimeout(() => this.#step(), Math.max(0, this.#due - performance.now()));
  }

  #step() {
    if (this.state !== "on") return;
    if (playback.frame >= playback.last) return void this.stop();
    const values = [...this.#held.values()].map(({ element, path, value }) => ({ element, path, value }));
    for (const { element, path, value } of values) {
      if (element === null || !path.startsWith("placement.")) continue;
      const before = this.#placements.get(element) ?? shot.element(element)?.placement ?? {};
      this.#placements.set(element, { ...before, [path.slice("placement.".length)]: value });
    }
    for (const [key, held] of this.#held) if (held.released) this.#held.delete(key);
    this.#waiting = true;
    this.#performance?.step(playback.frame + 1, values);
    this.#due = Math.max(this.#due + 1000 / this.#rate, performance.now());
  }

  #answered(number: number, frame: ViewportFrame) {
    this.#waiting = false;
    this.frame = frame;
    playback.go(number);
    this.#plan();
  }

  /** Ends the performance: samples become keys. */
  async stop() {
    if (this.state !== "on") return;
    this.state = "saving";
    const { place, turn, other } = this.within;
    this.#performance?.keep({
      position_m: place / 1000,
      orientation_rad: (turn * Math.PI) / 180,
      fraction: other / 100,
    });
  }

  #kept({ keys, samples, what }: Kept) {
    if (keys > 0) {
      notices.say(`Performed ${what}: ${keys} keys for ${samples} samples.`);
      // The next play shows the keys.
      this.armed = false;
    }
    this.#performance?.close();
  }

  #ended(why: string | null) {
    if (this.state === "off") return;
    clearTimeout(this.#timer);
    this.#performance = null;
    this.#waiting = false;
    this.#held.clear();
    this.state = "off";
    this.frame = null;
    if (why) notices.say(`Performing ended: ${why}`, { grave: true });
    void shot.refresh().then(() => playback.refresh());
  }
}

export const performing = new Performing();

/** Plays or pauses; with something armed, performs or stops. */
export function playOrPerform() {
  if (performing.armed || performing.state !== "off") performing.toggle();
  else playback.toggle();
}
