// The lines that stand for an element without a surface: a camera, a light, a force, a region, a curve.
import type * as THREE from "three";
import { api, type Element, type Vector } from "../../api/client";
import { solidOf } from "../../state/shot.svelte";
import { linesThrough, markerOf, markerOfLines, placeMarker } from "../markers";
import { distanceTo, type Drawn, type DrawnContext, type Manner, type Parts } from "./drawn";

/** The values that the lines depend on: of particles, where they are born. */
const keyOf = ({ kind }: Element) => JSON.stringify("particles" in kind ? kind.particles.source : kind);

export class DrawnMarker implements Drawn {
  static draws = (element: Element) => solidOf(element) === undefined;

  marker?: THREE.LineSegments;
  #key: string;
  #disposed = false;

  constructor(
    private context: DrawnContext,
    private element: Element,
  ) {
    this.#key = keyOf(element);
    const { width, height } = context.shot!.picture;
    this.marker = markerOf(element, width / height);
    if (this.marker) context.scene.add(this.marker);
    if ("curve" in element.kind) void this.#buildCurve();
  }

  update(element: Element): boolean {
    this.element = element;
    return keyOf(element) === this.#key;
  }

  show({ bodies }: Parts, { shown, selected, held, outside }: Manner) {
    if (!this.marker) return;
    this.marker.visible = shown && (outside || (selected && !("camera" in this.element.kind)));
    if (!held) placeMarker(this.marker, bodies, selected);
  }

  pick(ray: THREE.Raycaster) {
    return distanceTo(ray, this.marker);
  }

  dispose() {
    this.#disposed = true;
    if (this.marker) this.context.scene.remove(this.marker);
  }

  async #buildCurve() {
    const { context, element } = this;
    const strokes = await api.strokes(context.shotId, element.id, context.frame).catch(() => null);
    if (!strokes || this.#disposed) return;
    this.marker = markerOfLines(element.id, linesThrough(strokes as Vector[][]));
    context.scene.add(this.marker);
    context.changed();
  }
}
