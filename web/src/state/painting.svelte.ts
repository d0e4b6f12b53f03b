// The map that is shown on the Viewport, and the brush that paints it.
import { api, type Schemas, type Vector } from "../api/client";
import { brushed, decodeMap, type MapSurface } from "../viewport/mapSurface";
import { shot, solidOf } from "./shot.svelte";

/** A layer that is painted: numbers of the map and of the layer. */
export interface Painted {
  element: number;
  map: number;
  layer: number;
}

class PaintingState {
  /** The map that is shown: its element and its number. */
  shown = $state<{ element: number; map: number } | null>(null);
  on = $state<Painted | null>(null);
  /** The pin whose place is picked on the Viewport. */
  picking = $state<{ element: number; of: "cloth" | "soft"; pin: number } | null>(null);
  effect = $state<Schemas["StrokeEffect"]>("add");
  radius_m = $state(0.15);
  strength = $state(1);
  softness = $state(0.5);
  /** Whether it goes through to what is hidden. */
  through = $state(false);
  /** Number of the axis across which the same is done. */
  mirrored = $state<number | null>(null);
  /** The map as it is, or as the stroke at hand makes it. */
  surface = $state.raw<MapSurface | null>(null);
  #before: Float32Array | null = null;

  /** Shows a map and lets the brush paint one of its layers. */
  begin(at: Painted) {
    this.shown = { element: at.element, map: at.map };
    this.on = at;
  }

  end() {
    this.on = null;
  }

  /** The map that is shown, as the document has it. */
  get map(): Schemas["Map"] | undefined {
    return this.shown ? solidOf(shot.element(this.shown.element))?.maps?.[this.shown.map] : undefined;
  }

  /** Loads the map as it is at a frame. */
  async load(frame: number) {
    const { shown, map, picking } = this;
    const element = picking?.element ?? (map && shown?.element);
    if (element === undefined || shot.id === null) {
      this.surface = null;
      return;
    }
    const bytes = await api.map(shot.id, element, frame, picking ? null : map!.name).catch(() => null);
    if (this.shown !== shown || this.picking !== picking) return;
    this.surface = bytes && decodeMap(bytes);
    this.#before = null;
  }

  /** Shows a stroke so far. */
  moved(way: Vector[]) {
    const { surface, effect, radius_m, strength, softness } = this;
    if (!surface || this.picking) return;
    this.#before ??= surface.weights;
    const brush = { effect, radius: radius_m, strength, softness };
    this.surface = { ...surface, weights: brushed(surface, this.#before, way, brush) };
  }

  /** Sets the place of the pin that is picked. */
  #pick(place: Vector) {
    const { element, of, pin } = this.picking!;
    this.picking = null;
    const name = shot.element(element)?.name ?? "";
    const path = `/kind/solid/${of}/pins/${pin}/part/point/position_m`;
    void shot.set(`Place of a pin of ${name}`, [element], path, place);
  }

  /** Saves a stroke, one step of the history, or the place that was picked. */
  painted(way: Vector[], normal: Vector) {
    if (this.picking) return this.#pick(way[0]);
    const { on } = this;
    if (!on) return;
    const stroke: Schemas["Stroke"] = {
      effect: this.effect,
      points_m: way,
      radius_m: this.radius_m,
      strength: this.strength,
      softness: this.softness,
      ...(this.through ? { through: normal } : {}),
      ...(this.mirrored === null ? {} : { mirrored: this.mirrored }),
    };
    const path = `/kind/solid/maps/${on.map}/layers/${on.layer}/source/painted/strokes/-`;
    const name = shot.element(on.element)?.name ?? "";
    void shot.edit(`Stroke on ${name}`, (document) => {
      const index = document.elements.findIndex((element) => element.id === on.element);
      return index < 0 ? [] : [{ op: "add", path: `/elements/${index}${path}`, value: stroke }];
    });
  }
}

export const painting = new PaintingState();
