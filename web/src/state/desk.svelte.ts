// How the Desk is set: the view, the handle, what is laid over the Stage.
import type { Handle, Stage, ViewName } from "../stage/Stage";

class DeskState {
  view = $state<ViewName>("camera");
  handle = $state<Handle>("move");
  collision = $state(false);
  snap = $state<number | null>(null);
  tab = $state<"shape" | "body" | "look" | "motion">("body");
  finder = $state(false);
  stage: Stage | null = null;
}

export const desk = new DeskState();
