// Where the document puts elements at a frame: for all that no solver moves.
import { api } from "../api/client";
import { channelsOf } from "../state/keys";
import { playback } from "../state/playback.svelte";
import { shot } from "../state/shot.svelte";
import { decodeFrame, type ViewportFrame } from "./frames";

export class Staged {
  /** The frame that came last, and the revision of the shot that it is of. */
  now = $state.raw<{ key: string; revision: number; frame: ViewportFrame } | null>(null);
  #keyed = $derived(shot.elements.some((e) => Object.keys(channelsOf(e)).length > 0));
  /** Elements that follow or look at bodies stand where a run has those. */
  #follows = $derived(shot.elements.some((e) => !("solid" in e.kind) && (e.aim || e.attached)));

  /** Asks for a frame, unless the one that is there is the same. */
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
