// The part of the frames that the Viewport shows: only that is asked for.
import type { FramePart } from "../viewport/frames";
import { channelsOf } from "./keys";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";

/** Particles and vertices that are drawn at most, with graphics hardware and without. */
const MOST = 2_000_000;
const MOST_IN_SOFTWARE = 200_000;

class Shown {
  /** Whether this machine draws without graphics hardware. */
  inSoftware = $state(false);
  /** What was left out of the frame in the Viewport so that it can be drawn. */
  thinning = $state.raw({ oneParticleOf: 1, coarseMeshes: 0 });

  /** The elements that are not drawn: hidden ones, and all others while some are shown alone. One that
   * keys hide counts as shown. */
  #without = $derived.by(() => {
    const { solo } = selection;
    const hides = (id: number, hidden: boolean) => hidden || (solo.length > 0 && !solo.includes(id));
    return shot.elements
      .filter((e) => hides(e.id, e.hidden === true && channelsOf(e).hidden === undefined))
      .map((e) => e.id)
      .sort((a, b) => a - b);
  });

  get part(): FramePart {
    return { without: this.#without, most: this.inSoftware ? MOST_IN_SOFTWARE : MOST };
  }
}

export const shown = new Shown();
