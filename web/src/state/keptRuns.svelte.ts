// The kept runs of the shot, for those who choose among them.
import { api, type Run } from "../api/client";
import { shot } from "./shot.svelte";

class KeptRuns {
  list = $state.raw<Run[]>([]);

  refresh() {
    const id = shot.id;
    if (id === null) return;
    void api
      .runs(id)
      .then((list) => shot.id === id && (this.list = list))
      .catch(() => undefined);
  }
}

export const keptRuns = new KeptRuns();
