// What was measured along the current run, asked for again as it changes.
import { api, type MeasuredRun } from "../api/client";
import { playback } from "./playback.svelte";

export type Turnover = MeasuredRun["particles"][number];
export type LiquidTrack = MeasuredRun["liquids"][number];

class Measured {
  run = $state.raw<MeasuredRun | null>(null);

  /** Asks anew; while frames are being computed, not. */
  refresh() {
    const run = playback.freshness?.run;
    if (run === undefined || playback.running || playback.computing) return;
    void api
      .measured(run)
      .then((found) => (this.run = found))
      .catch(() => undefined);
  }

  /** The births and deaths of an element's particles. */
  turnover(element: number): Turnover | undefined {
    return this.run?.particles.find((of) => of.element === element);
  }

  /** What was measured of a liquid. */
  liquid(element: number): LiquidTrack | undefined {
    return this.run?.liquids.find((of) => of.element === element);
  }

  /** Its place in the lists at a frame; −1 if that was not computed. */
  at(frame: number): number {
    return this.run?.frames.indexOf(frame) ?? -1;
  }
}

export const measured = new Measured();
