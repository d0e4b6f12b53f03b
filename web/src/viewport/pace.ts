// Resolution of the Viewport in motion: the highest at which pictures come in time.

/** Pixels of the page to a drawn one, from sharp to quick. */
const RATIOS = [1, 0.7, 0.5, 0.35];
/** A picture that takes longer is too slow, ms. */
const SLOW_MS = 40;
/** Pictures this quick could be sharper, ms. */
const QUICK_MS = 8;
/** Pictures of one level before it changes. */
const PATIENCE = 3;

export class Pace {
  #level = 0;
  #cost = 0;
  #count = 0;

  /** Drawn pixels a pixel of the page, in each direction. */
  get ratio(): number {
    return RATIOS[this.#level];
  }

  /** Whether shadows follow what moves. */
  get shadows(): boolean {
    return this.#level < RATIOS.length - 1;
  }

  /** A picture was drawn in so much time while things move. */
  drawn(cost_ms: number) {
    this.#cost += cost_ms;
    if (++this.#count < PATIENCE) return;
    const mean = this.#cost / this.#count;
    this.#cost = this.#count = 0;
    if (mean > SLOW_MS) this.#level = Math.min(RATIOS.length - 1, this.#level + 1);
    else if (mean < QUICK_MS) this.#level = Math.max(0, this.#level - 1);
  }
}

/** Calls `done` with the time until the graphics processor has finished its commands. */
export function timed(gl: WebGL2RenderingContext, done: (ms: number) => void) {
  const start = performance.now();
  const sync = gl.fenceSync(gl.SYNC_GPU_COMMANDS_COMPLETE, 0);
  if (!sync) return;
  gl.flush();
  const look = () => {
    if (gl.isContextLost()) return;
    if (gl.getSyncParameter(sync, gl.SYNC_STATUS) !== gl.SIGNALED) {
      setTimeout(look, 2);
      return;
    }
    gl.deleteSync(sync);
    done(performance.now() - start);
  };
  setTimeout(look, 2);
}
