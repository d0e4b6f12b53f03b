// Poses of elements in the document at a frame, for those that no solver moves.
import { api } from "../api/client";
import { channelsOf } from "../state/keys";
import { playback } from "../state/playback.svelte";
import { shot } from "../state/shot.svelte";
import { decodeFrame, type ViewportFrame } from "./frames";

export class Staged {
  /** The latest frame, with the revision of its shot. */
  now = $state.raw<{ key: string; revision: number; frame: ViewportFrame } | null>(null);
  #keyed = $derived(shot.elements.some((e) => Object.keys(channelsOf(e)).length > 0));
  /** Whether elements are attached to or aimed at others: their poses depend on the run. */
  #follows = $derived(shot.elements.some((e) => !("solid" in e.kind) && (e.aim || e.attached)));

  /** The poses asked for at a frame. */
  #wanted(frame: number) {
    const asked = this.#keyed || this.#follows ? frame : (shot.document?.timing.first ?? 1);
    const revision = shot.state?.revision ?? 0;
    const key = `${shot.id} ${revision} ${asked} ${this.#follows ? playback.changes : ""}`;
    return { asked, revision, key };
  }

  /** Whether the present poses are those of a frame. */
  isOf(frame: number): boolean {
    return this.now?.key === this.#wanted(frame).key;
  }

  /** Fetches a frame, unless the present one is the same. */
  ask(frame: number) {
    const { id, document } = shot;
    if (id === null || !document) return;
    const { asked, revision, key } = this.#wanted(frame);
    if (this.now?.key === key) return;
    void api
      .staged(id, asked)
      .then((buffer) => (this.now = { key, revision, frame: decodeFrame(buffer) }))
      .catch(() => undefined);
  }
}
