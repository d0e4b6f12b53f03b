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

/** The knots of some channels within the shot's frames, in order; `at` is the thread's scale. */
export function knotsOf(channels: [string, Channel][], at: (frame: number) => number): Knot[] {
  const all = channels
    .flatMap(([path, channel]) => keysOf(channel).map(({ frame }) => ({ frame, path, at: at(frame) })))
    .filter((knot) => knot.at >= 0 && knot.at <= 100)
    .sort((a, b) => a.at - b.at);
  const knots: Knot[] = [];
  for (const knot of all)
    if (knots.length === 0 || knot.at - knots[knots.length - 1].at >= NEAREST) knots.push(knot);
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
