// How particles are judged in the Viewport; the shot and its run stay as they are.
import type { Judging } from "../viewport/appearance";
import { shot } from "./shot.svelte";

class JudgingState {
  #by = $state<Record<string, Judging>>({});

  #key(element: number): string {
    return `${shot.id}/${element}`;
  }

  of(element: number): Judging {
    return this.#by[this.#key(element)] ?? { by: null, every: 1 };
  }

  set(element: number, change: Partial<Judging>) {
    this.#by[this.#key(element)] = { ...this.of(element), ...change };
  }

  /** Changes whenever anything about it does. */
  get all(): string {
    return JSON.stringify(this.#by);
  }
}

export const judging = new JudgingState();
