// Where frames are along a line as long as the shot, and back: the only scale of frames to pixels.
import { playback } from "./playback.svelte";

export class FrameScale {
  constructor(
    /** Where the first frame is, percent of the line's width. */
    private left: number,
    /** From the first frame to the last one, percent of the line's width. */
    private width: number,
  ) {}

  /** Frames from the first to the last. */
  get span(): number {
    return Math.max(1, playback.end - playback.first);
  }

  /** Where a frame is, percent of the line's width. */
  at = (frame: number): number => this.left + (this.width * (frame - playback.first)) / this.span;

  /** The frame at a place, percent of the line's width. */
  frameAt = (percent: number): number => playback.first + ((percent - this.left) / this.width) * this.span;

  /** Frames that a pixel is, on a line so many pixels wide. */
  perPixel = (pixels: number): number => (100 * this.span) / this.width / Math.max(1, pixels);
}

/** The lanes of the Timeline, with room at both ends. */
export const lanes = new FrameScale(1, 96);
/** Threads, from end to end. */
export const threads = new FrameScale(0, 100);
