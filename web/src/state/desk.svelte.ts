// Settings of the Desk: view, handle, overlays of the Viewport.
import type { Cut } from "../viewport/cut";
import type { Handle } from "../viewport/handles";
import type { Tab } from "./parameters";
import type { ViewName } from "../viewport/eye";
import type { Viewport } from "../viewport/Viewport";

class DeskState {
  view = $state<ViewName>("camera");
  handle = $state<Handle>("move");
  collision = $state(false);
  /** Step of the handles, m. */
  step = $state<number | null>(null);
  /** Handles draw bodies onto the floor. */
  floor = $state(true);
  tab = $state<Tab>("body");
  /** Arrows that show what forces do on a plane. */
  probe = $state(false);
  /** Weightless dots carried by the forces. */
  tracers = $state(false);
  /** Where liquids are cut open in the Viewport; null: they are whole. */
  cut = $state<Cut | null>(null);
  /** The curve that clicks in the Viewport draw, and the points it has so far. */
  drawing = $state<{ id: number; points: number } | null>(null);
  finder = $state(false);
  viewport: Viewport | null = null;
  /** The frame at which all is in place in the Viewport; null while something is on its way. */
  arranged = $state<number | null>(null);
}

export const desk = new DeskState();
