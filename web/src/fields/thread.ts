// A thread's drawing: the miniature curve and the knots along the frames of the shot.
import { keysOf, type Channel } from "../state/keys";

/** Height of a thread's drawing, in the units of its curve. */
export const THREAD_HEIGHT = 20;
const INSET = 2;
/** Nearest two knots, percent of the thread's width; nearer ones cannot be told apart. */
const NEAREST = 0.75;

export interface Knot {
  frame: number;
  /** Percent of the thread's width. */
  at: number;
  path: string;
}

/** Where a frame is along the thread, percent of its width. */
export function along(frame: number, first: number, last: number): number {
  return (100 * (frame - first)) / Math.max(1, last - first);
}

/** The knots of some channels within the shot's frames, in order. */
export function knotsOf(channels: [string, Channel][], first: number, last: number): Knot[] {
  const all = channels
    .flatMap(([path, channel]) => keysOf(channel).map(({ frame }) => ({ frame, path })))
    .filter(({ frame }) => frame >= first && frame <= last)
    .sort((a, b) => a.frame - b.frame);
  const knots: Knot[] = [];
  for (const { frame, path } of all) {
    const at = along(frame, first, last);
    if (knots.length === 0 || at - knots[knots.length - 1].at >= NEAREST) knots.push({ frame, path, at });
  }
  return knots;
}

/** The parts of a value over the frames as lines in a box of 100 by `THREAD_HEIGHT`, each on its own scale. */
export function curvesOf(parts: number[][]): string[] {
  return parts.map((values) => {
    const [low, high] = [Math.min(...values), Math.max(...values)];
    const room = THREAD_HEIGHT - 2 * INSET;
    const up = (value: number) => (high - low < 1e-9 ? 0.5 : (value - low) / (high - low));
    return values
      .map((value, i) => {
        const x = (100 * i) / Math.max(1, values.length - 1);
        return `${x.toFixed(2)},${(THREAD_HEIGHT - INSET - up(value) * room).toFixed(2)}`;
      })
      .join(" ");
  });
}
