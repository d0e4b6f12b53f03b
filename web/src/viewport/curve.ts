// The points of a curve in the Viewport: dragged one by one, or drawn anew by clicks.
import * as THREE from "three";
import type { Vector } from "../api/client";
import { SELECTED } from "./overlays";

/** How near the pointer has to be to a point, px. */
const REACH_PX = 9;

/** A curve whose points are shown. */
export interface CurveShown {
  id: number;
  /** In the curve's own frame, m. */
  points: Vector[];
  /** Whether clicks draw the curve anew. */
  drawing: boolean;
}

export interface CurveHost {
  /** Where the curve's own frame is. */
  frame(id: number): THREE.Matrix4 | null;
  /** The point under the pointer: on a body, or on the plane of the view. */
  place(event: PointerEvent, near: THREE.Vector3): THREE.Vector3 | null;
  /** The place under the pointer at the depth of another. */
  beside(event: PointerEvent, place: THREE.Vector3): THREE.Vector3 | null;
  /** Where a place is on the page, px. */
  seen(place: THREE.Vector3): THREE.Vector2;
  /** A drag begins or ends. */
  dragging(on: boolean): void;
  changed(): void;
  /** Points were dragged. */
  moved(id: number, points: Vector[]): void;
  /** So many points were drawn so far. */
  drawn(count: number): void;
}

export class CurvePoints {
  #shown: CurveShown | null = null;
  /** Points drawn so far, in the world. */
  #pending: THREE.Vector3[] = [];
  #dots = new THREE.Points(
    new THREE.BufferGeometry(),
    new THREE.PointsMaterial({
      color: SELECTED,
      size: 8,
      sizeAttenuation: false,
      depthTest: false,
      toneMapped: false,
    }),
  );
  #line = new THREE.Line(
    new THREE.BufferGeometry(),
    new THREE.LineBasicMaterial({ color: SELECTED, depthTest: false, toneMapped: false }),
  );

  constructor(
    scene: THREE.Scene,
    private host: CurveHost,
  ) {
    for (const object of [this.#dots, this.#line]) {
      object.frustumCulled = false;
      object.renderOrder = 5;
      object.visible = false;
      scene.add(object);
    }
  }

  show(shown: CurveShown | null) {
    const begins = shown?.drawing && !(this.#shown?.drawing && this.#shown.id === shown.id);
    this.#shown = shown;
    if (begins || !shown?.drawing) this.#pending = [];
    this.lay();
  }

  get shown(): boolean {
    return this.#shown !== null;
  }

  get drawing(): boolean {
    return this.#shown?.drawing === true;
  }

  /** The points drawn, in the curve's own frame; null with fewer than two. */
  drawn(): Vector[] | null {
    const frame = this.#shown && this.host.frame(this.#shown.id);
    if (!frame || this.#pending.length < 2) return null;
    const inverse = frame.clone().invert();
    return this.#pending.map((point) => tidy(point.clone().applyMatrix4(inverse)));
  }

  /** Updates dots and line. */
  lay() {
    const places = this.#places();
    if (places.length === 0 && !this.#dots.visible) return;
    this.#dots.visible = places.length > 0;
    this.#line.visible = this.#shown?.drawing === true && places.length > 1;
    for (const object of [this.#dots, this.#line]) {
      object.geometry.dispose();
      object.geometry = new THREE.BufferGeometry().setFromPoints(places);
    }
  }

  #places(): THREE.Vector3[] {
    const shown = this.#shown;
    if (!shown) return [];
    if (shown.drawing) return this.#pending;
    const frame = this.host.frame(shown.id);
    return frame ? shown.points.map((point) => new THREE.Vector3(...point).applyMatrix4(frame)) : [];
  }

  /** Handles a press; returns whether it was on a point of the curve. */
  press(event: PointerEvent): boolean {
    const shown = this.#shown;
    if (!shown) return false;
    if (shown.drawing) {
      const frame = this.host.frame(shown.id);
      const near = this.#pending.at(-1) ?? new THREE.Vector3().setFromMatrixPosition(frame!);
      const release = (up: PointerEvent) => {
        removeEventListener("pointerup", release);
        if (Math.hypot(up.clientX - event.clientX, up.clientY - event.clientY) > 4) return;
        const place = this.host.place(up, near);
        if (!place) return;
        this.#pending.push(place);
        this.lay();
        this.host.drawn(this.#pending.length);
        this.host.changed();
      };
      addEventListener("pointerup", release);
      return true;
    }
    const pointer = new THREE.Vector2(event.clientX, event.clientY);
    const places = this.#places();
    const index = places.findIndex((place) => this.host.seen(place).distanceTo(pointer) < REACH_PX);
    const frame = this.host.frame(shown.id);
    if (index < 0 || !frame) return false;
    this.#drag(shown, index, places[index], frame.clone().invert());
    return true;
  }

  #drag(shown: CurveShown, index: number, from: THREE.Vector3, inverse: THREE.Matrix4) {
    let points = shown.points;
    const move = (event: PointerEvent) => {
      const to = this.host.beside(event, from);
      if (!to) return;
      points = shown.points.with(index, tidy(to.applyMatrix4(inverse)));
      this.#shown = { ...shown, points };
      this.lay();
      this.host.changed();
    };
    const release = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", release);
      this.host.dragging(false);
      if (points !== shown.points) this.host.moved(shown.id, points);
    };
    this.host.dragging(true);
    addEventListener("pointermove", move);
    addEventListener("pointerup", release);
  }
}

function tidy(point: THREE.Vector3): Vector {
  return point.toArray().map((v) => Number(v.toFixed(4))) as Vector;
}
