// The frame shown, playing, and the frames of the current run.
import { api, type Freshness, type Stretch } from "../api/client";
import { decodeFrame, type FramePart, type ViewportFrame } from "../viewport/frames";
import { notices } from "./notices.svelte";
import { shot } from "./shot.svelte";
import { shown } from "./shown.svelte";

/** Longest wait for the server to report that it computes, ms. */
const START_MS = 1000;
/** Frames kept, and bytes of them, at most. */
const MOST_FRAMES = 2000;
const MOST_BYTES = 600e6;

/** The stretches with one more fresh frame. */
function withFresh(all: Stretch[], frame: number): Stretch[] {
  const stretches: Stretch[] = [];
  for (const s of all) {
    if (frame < s.first || frame > s.last) stretches.push(s);
    else {
      if (s.first < frame) stretches.push({ ...s, last: frame - 1 });
      stretches.push({ first: frame, last: frame, state: "fresh", reason: null });
      if (s.last > frame) stretches.push({ ...s, first: frame + 1 });
    }
  }
  const merged: Stretch[] = [];
  for (const s of stretches) {
    const before = merged[merged.length - 1];
    if (before && before.state === s.state && before.reason === s.reason) before.last = s.last;
    else merged.push({ ...s });
  }
  return merged;
}

/** A part of a frame among those kept. */
const keyOf = (run: number, frame: number, part: FramePart | null, finished = true) =>
  `${run}/${frame}?${finished ? "" : "computed "}${part ? `${part.most} ${part.without.join()}` : ""}`;

class Playback {
  frame = $state(1);
  running = $state(false);
  loop = $state(true);
  rate = $state(1);
  /** The run is shown from its end to its start. */
  backwards = $state(false);
  freshness = $state.raw<Freshness | null>(null);
  /** The system that is computed while the others hold; null: all are. */
  only = $state<string | null>(null);
  /** Frames the server is computing: how far, how long still. */
  computing = $state.raw<{ frame: number; last: number; secondsLeft: number } | null>(null);
  /** Counts up when frames on the server have changed. */
  changes = $state(0);
  /** A kept run that is shown over the frames. */
  ghost = $state<number | null>(null);
  /** A frame of the run, as it was computed, that is shown over the frames. */
  ghostFrame = $state<number | null>(null);
  #cache = new Map<string, Promise<ViewportFrame | null>>();
  #bytes = new Map<string, number>();
  /** Frames that arrived before the message that they are computed. */
  #arrived = new Map<number, ViewportFrame>();
  #timer: number | undefined;
  /** Counts starts: a loop of an earlier start ends at its next step. */
  #started = 0;
  #refreshing = 0;
  #soon: number | undefined;
  /** Frames told as computed since freshness was last asked for. */
  #meanwhile = new Set<number>();

  get first(): number {
    return shot.document?.timing.first ?? 1;
  }

  /** The last frame that is shown: of the finished frames, where there are such; of a shot that has
   * gone round, the one before that in which its state met itself. */
  get last(): number {
    const closed = this.freshness?.closed_at;
    return (
      this.freshness?.finished?.last ?? (closed != null ? closed - 1 : (shot.document?.timing.last ?? 1))
    );
  }

  /** The last frame on the Timeline: what is computed and what any step gives has room on it. */
  get end(): number {
    const steps = this.freshness?.finished?.steps.map((step) => step.last) ?? [];
    return Math.max(this.last, shot.document?.timing.last ?? 1, ...steps);
  }

  /** Whether the frames shown are finished ones. */
  get finished(): boolean {
    return this.freshness?.finished != null;
  }

  /** The frame of the run that is shown at a frame. */
  source(frame: number): number {
    return this.backwards ? this.first + this.last - frame : frame;
  }

  reset() {
    this.pause();
    this.backwards = false;
    this.frame = this.first;
    this.freshness = null;
    this.computing = null;
    this.ghost = null;
    this.ghostFrame = null;
    this.only = null;
    this.#cache.clear();
    void this.refresh();
  }

  /** Asks how the run stands against the shot. */
  async refresh() {
    const id = shot.id;
    if (id === null) return;
    const turn = ++this.#refreshing;
    const meanwhile = new Set<number>();
    this.#meanwhile = meanwhile;
    const freshness = await api.freshness(id).catch(() => null);
    if (!freshness || turn !== this.#refreshing || shot.id !== id) return;
    // Frames reported as computed since the request are fresh, whatever the answer says.
    const known = [...meanwhile].reduce((of, frame) => this.#withFrame(of, frame), freshness);
    // Finished frames change with any step.
    if (freshness.finished || this.finished) this.forget(freshness.run);
    this.freshness = known;
    // What was computed alone may have joined another system meanwhile.
    if (!freshness.systems.some((of) => of.system === this.only)) this.only = null;
    if (this.frame > this.last) this.frame = this.last;
    if (!freshness.playing) this.computing = null;
    this.changes++;
  }

  /** The freshness with one more frame of the systems that are computed. */
  #withFrame(freshness: Freshness, frame: number): Freshness {
    const only = freshness.systems.find((of) => of.system === this.only);
    const computed = (name: string) => !only || only.system === name || only.reads.includes(name);
    const systems = freshness.systems.map((of) =>
      computed(of.system) ? { ...of, stretches: withFresh(of.stretches, frame) } : of,
    );
    const fresh = (all: Stretch[]) =>
      all.some((s) => s.state === "fresh" && s.first <= frame && frame <= s.last);
    const whole = systems.every((of) => fresh(of.stretches));
    const stretches = whole ? withFresh(freshness.stretches, frame) : freshness.stretches;
    return { ...freshness, systems, stretches };
  }

  stateOf(frame: number): Stretch["state"] {
    const alone = this.freshness?.systems.find((of) => of.system === this.only);
    const stretches = this.freshness?.finished?.stretches ?? alone?.stretches ?? this.freshness?.stretches;
    return stretches?.find((s) => s.first <= frame && frame <= s.last)?.state ?? "missing";
  }

  /** A part of a frame of a run, finished or as it was computed, kept once fetched; null if it is not there. */
  fetch(
    run: number,
    frame: number,
    finished = true,
    part: FramePart | null = null,
  ): Promise<ViewportFrame | null> {
    const key = keyOf(run, frame, part, finished);
    let promise = this.#cache.get(key);
    if (!promise) {
      promise = api
        .frame(run, frame, finished, part)
        .then(decodeFrame)
        .catch(() => {
          this.#cache.delete(key);
          return null;
        });
      this.#keep(key, promise);
    }
    return promise;
  }

  #keep(key: string, frame: Promise<ViewportFrame | null>) {
    this.#cache.set(key, frame);
    void frame.then((frame) => {
      if (!frame) return;
      this.#bytes.set(key, frame.bytes);
      let sum = 0;
      for (const key of this.#cache.keys()) sum += this.#bytes.get(key) ?? 0;
      for (const key of this.#cache.keys()) {
        if (this.#cache.size <= MOST_FRAMES && sum <= MOST_BYTES) break;
        sum -= this.#bytes.get(key) ?? 0;
        this.#bytes.delete(key);
        this.#cache.delete(key);
      }
    });
  }

  forget(run: number) {
    for (const key of this.#cache.keys()) if (key.startsWith(`${run}/`)) this.#cache.delete(key);
  }

  /** A frame was pushed by the server. */
  received(run: number, message: ArrayBuffer) {
    if (run !== this.freshness?.run) return;
    const number = new DataView(message).getUint32(16, true);
    this.#arrived.set(number, decodeFrame(message, 16));
  }

  /** A frame was computed and is fresh. */
  computed(frame: number, last: number, secondsLeft: number) {
    this.computing = { frame, last, secondsLeft };
    const freshness = this.freshness;
    if (!freshness) return;
    // A frame that arrives is as it was computed.
    const arrived = freshness.finished ? undefined : this.#arrived.get(frame);
    this.#arrived.clear();
    for (const key of this.#cache.keys())
      if (key.startsWith(`${freshness.run}/${frame}?`)) this.#cache.delete(key);
    if (arrived) this.#keep(keyOf(freshness.run, frame, shown.part), Promise.resolve(arrived));
    this.#meanwhile.add(frame);
    this.freshness = { ...this.#withFrame(freshness, frame), playing: true };
    if (freshness.finished) this.#refreshSoon();
    else if (frame === this.frame) this.changes++;
  }

  /** Asks how the finished frames stand, not more often than twice a second. */
  #refreshSoon() {
    if (this.#soon !== undefined) return;
    this.#soon = window.setTimeout(() => {
      this.#soon = undefined;
      void this.refresh();
    }, 500);
  }

  go(frame: number) {
    this.frame = Math.min(this.last, Math.max(this.first, Math.round(frame)));
  }

  step(by: number) {
    this.pause();
    this.go(this.frame + by);
  }

  /** Plays the computed frames, and starts computing the others. */
  async play() {
    if (shot.id === null || this.running) return;
    this.running = true;
    const started = ++this.#started;
    const isOver = () => !this.running || started !== this.#started;
    if (this.frame >= this.last) this.frame = this.first;
    const id = shot.id;
    // Pending changes are saved first.
    await shot.settled;
    if (isOver()) return;
    await notices.attempt(() => api.play(id, this.only));
    await this.refresh();
    if (isOver()) return;
    const start = performance.now();
    const fps = () => (shot.document?.timing.fps ?? 24) * this.rate;
    let due = performance.now();
    const tick = () => {
      if (isOver()) return;
      const now = performance.now();
      if (now >= due) {
        due = Math.max(due + 1000 / fps(), now - 200);
        const next = this.frame + 1;
        if (next > this.last) {
          if (this.loop) this.frame = this.first;
          else return this.pause();
        } else if (this.stateOf(this.source(next)) === "fresh") this.frame = next;
        // The next frame is being computed: wait for it.
        else if (!this.freshness?.playing && !this.computing && now - start > START_MS) return this.pause();
      }
      this.#timer = requestAnimationFrame(tick);
    };
    this.#timer = requestAnimationFrame(tick);
  }

  /** Computes one system while the others hold, or all again. */
  computeOnly(system: string | null) {
    this.only = this.only === system ? null : system;
    const id = shot.id;
    // What is under way goes on with the new choice.
    if (id !== null && this.freshness?.playing) void notices.attempt(() => api.play(id, this.only));
  }

  pause() {
    this.running = false;
    if (this.#timer !== undefined) cancelAnimationFrame(this.#timer);
  }

  toggle() {
    if (this.running) this.pause();
    else void this.play();
  }

  /** Stops computing. */
  async stopComputing() {
    this.pause();
    const id = shot.id;
    if (id !== null) await notices.attempt(() => api.stop(id));
  }

  async clear() {
    const id = shot.id;
    if (id === null) return;
    await notices.attempt(() => api.clear(id));
    if (this.freshness) this.forget(this.freshness.run);
    await this.refresh();
  }
}

export const playback = new Playback();
