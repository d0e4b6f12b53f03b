// The films of the open shot.
import { api, type Film, type FilmSettings, type Told } from "../api/client";
import { notices } from "./notices.svelte";
import { shot } from "./shot.svelte";

class Films {
  list = $state.raw<Film[]>([]);
  asking = $state(false);

  async refresh() {
    const id = shot.id;
    if (id === null) return;
    const list = await api.films(id).catch(() => null);
    if (list && shot.id === id) this.list = list;
  }

  /** What the server told of a film at work. */
  progress({ film, done, seconds_left, there, bytes }: Extract<Told, { what: "film" }>) {
    this.list = this.list.map((f) =>
      f.id === film ? { ...f, done, seconds_left, there, bytes, state: "running" } : f,
    );
  }

  async begin(name: string, settings: FilmSettings) {
    const id = shot.id;
    if (id === null) return;
    await shot.settled;
    const film = await notices.attempt(() => api.createFilm(id, name, settings));
    await this.refresh();
    return film;
  }

  async stop(film: number) {
    await notices.attempt(() => api.stopFilm(film));
    await this.refresh();
  }

  async resume(film: number) {
    await notices.attempt(() => api.resumeFilm(film));
    await this.refresh();
  }

  async remove(film: number) {
    await notices.attempt(() => api.deleteFilm(film));
    await this.refresh();
  }
}

export const films = new Films();

/** Whether a frame of a film is rendered: no other is asked for. */
export const isThere = (film: Film, frame: number) =>
  film.there.some(([first, last]) => first <= frame && frame <= last);
