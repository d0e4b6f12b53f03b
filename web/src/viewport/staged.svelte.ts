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

  /** Fetches a frame, unless the present one is the same. */
  ask(frame: number) {
    const { id, document } = shot;
    if (id === null || !document) return;
    const asked = this.#keyed || this.#follows ? frame : document.timing.first;
    const revision = shot.state?.revision ?? 0;
    const key = `${id} ${revision} ${asked} ${this.#follows ? playback.changes : ""}`;
    if (this.now?.key === key) return;
    void api
      .staged(id, asked)
      .then((buffer) => (this.now = { key, revision, frame: decodeFrame(buffer) }))
      .catch(() => undefined);
  }
}
