// Jobs of the server, for any shot.
import { api, type Told } from "../api/client";

export interface Job {
  shot: number;
  /** The film rendered; none for a bake. */
  film?: number;
  /** Finished frames are made, which ends by itself. */
  finishing?: boolean;
  /** Sizes of liquids are compared. */
  comparing?: boolean;
  label: string;
  done: number;
  total: number;
  secondsLeft: number | null;
}

class Jobs {
  list = $state.raw<Job[]>([]);
  #names = new Map<number, string>();

  take(told: Told) {
    if (told.what === "frame")
      this.#put({
        shot: told.shot,
        label: "Computing",
        done: told.frame,
        total: told.last,
        secondsLeft: told.seconds_left,
      });
    if (told.what === "film")
      this.#put({
        shot: told.shot,
        film: told.film,
        label: "Rendering",
        done: told.done,
        total: told.total,
        secondsLeft: told.seconds_left,
      });
    if (told.what === "finishing") {
      const { shot, done, total } = told;
      if (total === 0) this.#drop((job) => job.shot === shot && job.finishing === true);
      else this.#put({ shot, finishing: true, label: "Finishing", done, total, secondsLeft: null });
    }
    if (told.what === "enough") {
      const { shot, done, total } = told;
      if (total === 0) this.#drop((job) => job.shot === shot && job.comparing === true);
      else this.#put({ shot, comparing: true, label: "Comparing sizes", done, total, secondsLeft: null });
    }
    if (told.what === "bake_ended")
      this.#drop(
        (job) => job.shot === told.shot && job.film === undefined && !job.finishing && !job.comparing,
      );
    if (told.what === "films") this.#drop((job) => job.shot === told.shot && job.film !== undefined);
    if (told.what === "resync") this.list = [];
  }

  /** The name of a job's shot, once it is known. */
  nameOf(shot: number): string {
    if (!this.#names.has(shot)) {
      this.#names.set(shot, "");
      void api.shots().then((cards) => {
        for (const card of cards) this.#names.set(card.id, card.name);
        this.list = [...this.list];
      });
    }
    return this.#names.get(shot) ?? "";
  }

  stop(job: Job): Promise<void> {
    if (job.comparing) return api.stopComparing(job.shot);
    return job.film === undefined ? api.stop(job.shot) : api.stopFilm(job.film);
  }

  #put(job: Job) {
    const same = (other: Job) =>
      other.shot === job.shot &&
      other.film === job.film &&
      other.finishing === job.finishing &&
      other.comparing === job.comparing;
    this.list = this.list.some(same)
      ? this.list.map((other) => (same(other) ? job : other))
      : [...this.list, job];
  }

  #drop(which: (job: Job) => boolean) {
    this.list = this.list.filter((job) => !which(job));
  }
}

export const jobs = new Jobs();
