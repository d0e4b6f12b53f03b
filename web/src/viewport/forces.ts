// What forces do, in the Viewport: arrows on a plane, the weight of a region on it, and weightless dots.
import * as THREE from "three";
import { api } from "../api/client";
import type { Viewport } from "./Viewport";

/** Floats a point of a probe: drift, acceleration, weight. */
const STRIDE = 7;
/** Arrows along a side of the plane, and their distance, m. */
const SIDE = 15;
const STEP = 0.4;
const DOTS = 400;
/** Bodies that show a region's weight, at most. */
const MOST = 10_000;
/** Seconds a dot lives. */
const LIFE = 2.5;

export interface ForceShown {
  shot: number | null;
  revision: number;
  frame: number;
  arrows: boolean;
  tracers: boolean;
  /** A selected region, whose weight is shown on a slice and on bodies. */
  region: number | null;
  /** A value to be tried in place of the saved one. */
  tried: { element: number | null; path: string; value: number } | null;
}

/** A colour for a strength from 0 to 1: from slate over aqua to lime, brighter as it grows. */
export function strengthColour(strength: number, into: THREE.Color): THREE.Color {
  const s = Math.min(1, Math.max(0, strength));
  const [slate, aqua, lime] = [0x5d7486, 0x52cbbf, 0xc9f26b].map((hex) => new THREE.Color(hex));
  return s < 0.5 ? into.lerpColors(slate, aqua, 2 * s) : into.lerpColors(aqua, lime, 2 * s - 1);
}

/** Lines of arrows from points along vectors: a shaft and two barbs each, at most `longest` long. */
export function arrowLines(
  points: Float32Array,
  vectors: (i: number) => THREE.Vector3,
  longest: number,
): { positions: Float32Array; colours: Float32Array; most: number } {
  const count = points.length / 3;
  const positions = new Float32Array(count * 18);
  const colours = new Float32Array(count * 18);
  let most = 0;
  for (let i = 0; i < count; i++) most = Math.max(most, vectors(i).length());
  const colour = new THREE.Color();
  for (let i = 0; i < count; i++) {
    const vector = vectors(i).clone();
    const strength = most > 0 ? vector.length() / most : 0;
    const from = new THREE.Vector3().fromArray(points, 3 * i);
    const along = vector.clone().normalize();
    const length = longest * Math.sqrt(strength);
    const to = from.clone().addScaledVector(along, length);
    const side = new THREE.Vector3(0, 1, 0).cross(along);
    if (side.lengthSq() < 1e-6) side.set(1, 0, 0);
    side.normalize().multiplyScalar(0.18 * length);
    const back = to.clone().addScaledVector(along, -0.3 * length);
    const line = [from, to, to, back.clone().add(side), to, back.clone().sub(side)];
    line.forEach((p, j) => p.toArray(positions, 18 * i + 3 * j));
    strengthColour(strength, colour);
    for (let j = 0; j < 6; j++) colour.toArray(colours, 18 * i + 3 * j);
  }
  return { positions, colours, most };
}

/** The weights of bodies by element, from the answer of a probe. */
export function weightsOf(bodies: Map<number, Float32Array>, found: Float32Array): Map<number, Float32Array> {
  const weights = new Map<number, Float32Array>();
  let at = 0;
  for (const [id, places] of bodies) {
    const count = places.length / 3;
    weights.set(
      id,
      Float32Array.from({ length: count }, (_, i) => found[STRIDE * (at + i) + 6]),
    );
    at += count;
  }
  return weights;
}

export class ForceView {
  #shown: ForceShown | null = null;
  #arrows = new THREE.LineSegments(
    new THREE.BufferGeometry(),
    new THREE.LineBasicMaterial({ vertexColors: true, toneMapped: false }),
  );
  #slice = new THREE.Points(
    new THREE.BufferGeometry(),
    new THREE.PointsMaterial({ vertexColors: true, size: 5, sizeAttenuation: false, toneMapped: false }),
  );
  #dots = new THREE.Points(
    new THREE.BufferGeometry(),
    new THREE.PointsMaterial({ color: 0xdff7a8, size: 3, sizeAttenuation: false, toneMapped: false }),
  );
  #places = new Float32Array(3 * DOTS);
  #ages = new Float32Array(DOTS);
  #asking = false;
  #again = false;
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(private viewport: Viewport) {
    for (const object of [this.#arrows, this.#slice, this.#dots]) {
      object.frustumCulled = false;
      object.visible = false;
      viewport.scene.add(object);
    }
    this.#dots.geometry.setAttribute("position", new THREE.BufferAttribute(this.#places, 3));
    for (let i = 0; i < DOTS; i++) this.#begin(i, Math.random() * LIFE);
  }

  show(shown: ForceShown) {
    const before = this.#shown;
    const visible = ({ arrows, region, tracers }: ForceShown) => arrows || tracers || region !== null;
    const changed = visible(shown) || (before !== null && visible(before));
    this.#shown = shown;
    this.#arrows.visible = shown.arrows;
    this.#slice.visible = shown.region !== null;
    this.#dots.visible = shown.tracers;
    if (shown.arrows || shown.region !== null) void this.#probe();
    if (shown.region === null && before?.region != null) this.viewport.showWeights(null);
    if (shown.tracers && !before?.tracers) void this.#carry();
    if (!shown.tracers && this.#timer !== undefined) {
      clearTimeout(this.#timer);
      this.#timer = undefined;
    }
    if (changed) this.viewport.draw();
  }

  /** Stops asking. */
  dispose() {
    clearTimeout(this.#timer);
    this.#shown = null;
  }

  /** Points of the plane of arrows: upright before the eye, or level in the view from the top. */
  #plane(): Float32Array {
    const { centre, right, up } = this.viewport.lookedAt();
    const points = new Float32Array(3 * SIDE * SIDE);
    const half = (SIDE - 1) / 2;
    for (let i = 0; i < SIDE * SIDE; i++)
      centre
        .clone()
        .addScaledVector(right, STEP * ((i % SIDE) - half))
        .addScaledVector(up, STEP * (Math.floor(i / SIDE) - half))
        .toArray(points, 3 * i);
    return points;
  }

  /** Asks what forces do on the plane; one question at a time, the newest last. */
  async #probe() {
    const shown = this.#shown;
    if (!shown || shown.shot === null) return;
    if (this.#asking) {
      this.#again = true;
      return;
    }
    this.#asking = true;
    const plane = this.#plane();
    const bodies = shown.region === null ? new Map<number, Float32Array>() : this.viewport.solidPlaces(MOST);
    const points = [...plane];
    for (const places of bodies.values()) for (const place of places) points.push(place);
    const { frame, region, tried } = shown;
    const answer = await api.probe(shown.shot, { frame, points, region, tried }).catch(() => null);
    this.#asking = false;
    if (answer && this.#shown?.region === region) {
      const found = new Float32Array(answer);
      if (region !== null) this.viewport.showWeights(weightsOf(bodies, found.subarray(STRIDE * SIDE * SIDE)));
      this.#draw(plane, found);
    }
    if (this.#again) {
      this.#again = false;
      void this.#probe();
    }
  }

  #draw(points: Float32Array, found: Float32Array) {
    const vector = new THREE.Vector3();
    const felt = (i: number) => vector.fromArray(found, STRIDE * i + 3);
    const { positions, colours } = arrowLines(points, felt, 0.95 * STEP);
    set(this.#arrows.geometry, positions, colours);
    const shades = new Float32Array(points.length);
    const colour = new THREE.Color();
    for (let i = 0; i < points.length / 3; i++)
      strengthColour(found[STRIDE * i + 6], colour).toArray(shades, 3 * i);
    set(this.#slice.geometry, points, shades);
    this.viewport.draw();
  }

  #begin(i: number, age: number) {
    const { centre } = this.viewport.lookedAt();
    const random = () => (Math.random() - 0.5) * SIDE * STEP;
    new THREE.Vector3(random(), random() * 0.6, random()).add(centre).toArray(this.#places, 3 * i);
    this.#ages[i] = age;
  }

  /** Moves the dots with the air, a tenth of a second at a time. */
  async #carry() {
    const shown = this.#shown;
    if (!shown?.tracers || shown.shot === null) return;
    const answer = await api
      .probe(shown.shot, { frame: shown.frame, points: [...this.#places], tried: shown.tried })
      .catch(() => null);
    if (answer) {
      const found = new Float32Array(answer);
      const dt = 0.1;
      for (let i = 0; i < DOTS; i++) {
        this.#ages[i] += dt;
        if (this.#ages[i] > LIFE) this.#begin(i, 0);
        else for (let axis = 0; axis < 3; axis++) this.#places[3 * i + axis] += dt * found[STRIDE * i + axis];
      }
      this.#dots.geometry.getAttribute("position").needsUpdate = true;
      this.viewport.draw();
    }
    this.#timer = setTimeout(() => void this.#carry(), 60);
  }
}

function set(geometry: THREE.BufferGeometry, positions: Float32Array, colours: Float32Array) {
  geometry.setAttribute("position", new THREE.BufferAttribute(positions, 3));
  geometry.setAttribute("color", new THREE.BufferAttribute(colours, 3));
}
