// The Viewport's own drawing, saved as a film.
import { api } from "../api/client";
import { desk } from "./desk.svelte";
import { notices } from "./notices.svelte";
import { playback } from "./playback.svelte";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";

/** Width of the film at most, pixels. */
const MOST_WIDTH = 1280;
/** Longest wait for a frame to be in place, ms. */
const PATIENCE_MS = 15_000;

/** Drawings as the server takes them: each behind its length. */
export async function packed(drawings: Blob[]): Promise<Blob> {
  const parts = drawings.flatMap((drawing) => [new Uint32Array([drawing.size]), drawing]);
  return new Blob(parts, { type: "application/octet-stream" });
}

const nextPicture = () => new Promise<void>((resolve) => requestAnimationFrame(() => resolve()));

class ViewFilm {
  /** How many frames are drawn, of how many; null: none is being made. */
  progress = $state.raw<{ done: number; total: number } | null>(null);
  #stopped = false;

  stop() {
    this.#stopped = true;
  }

  /** Draws the frames of a range, and hands the film to the browser to save. */
  async save(first: number, last: number) {
    const id = shot.id;
    if (id === null || this.progress || !desk.viewport) return;
    const { frame } = playback;
    playback.pause();
    selection.none();
    this.#stopped = false;
    this.progress = { done: 0, total: last - first + 1 };
    const film = await notices.attempt(async () => {
      const drawings: Blob[] = [];
      const width = Math.min(MOST_WIDTH, shot.document!.picture.width);
      for (let at = first; at <= last && !this.#stopped; at++) {
        await this.#arrange(at);
        if (!desk.viewport) throw new Error("The Desk was left before the film was drawn.");
        drawings.push(await desk.viewport.drawing(width));
        this.progress = { done: drawings.length, total: last - first + 1 };
      }
      return drawings.length > 0 ? api.viewFilm(id, await packed(drawings)) : undefined;
    });
    playback.go(frame);
    this.progress = null;
    if (film) offer(film, `${shot.document?.name ?? "Shot"} as drawn.mp4`);
  }

  /** Goes to a frame, and waits until all is in place. */
  async #arrange(frame: number) {
    desk.arranged = null;
    if (playback.frame === frame) playback.changes++;
    else playback.go(frame);
    const patience = performance.now() + PATIENCE_MS;
    while (desk.arranged !== frame) {
      if (performance.now() > patience) throw new Error(`Frame ${frame} could not be drawn.`);
      await nextPicture();
    }
  }
}

/** Lets the browser save a file. */
function offer(file: Blob, name: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(file);
  link.download = name;
  link.click();
  // The browser has begun to read it by then.
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
}

export const viewFilm = new ViewFilm();
