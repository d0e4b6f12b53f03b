// The elements of a shot as objects of the scene.
import * as THREE from "three";
import type { Element, Shot } from "../api/client";
import { solidOf } from "../state/shot.svelte";
import { sameFrame } from "./bodies";
import { Topologies } from "./deforming";
import type { Drawn, DrawnContext, Manner } from "./drawn/drawn";
import { DrawnBodies } from "./drawn/DrawnBodies";
import { DrawnLight } from "./drawn/DrawnLight";
import { DrawnMarker } from "./drawn/DrawnMarker";
import { DrawnLiquid } from "./drawn/DrawnLiquid";
import { DrawnParticles } from "./drawn/DrawnParticles";
import type { BodiesOfFrame, ViewportFrame } from "./frames";
import { Geometries } from "./geometry";
import { poseOf, type Movable } from "./handles";
import { Looks } from "./looks";

/** What is drawn of elements: a kind of part more is a class more. */
const DRAWN = [DrawnBodies, DrawnParticles, DrawnLiquid, DrawnLight, DrawnMarker];

interface Item {
  element: Element;
  drawn: Drawn[];
}

/** How the elements are shown. */
export interface Showing extends Omit<Manner, "shown" | "selected" | "held"> {
  selected: number[];
  /** Elements shown alone; without any, all are. */
  solo: number[];
  /** Whether the selected elements are being dragged, and keep the poses of the drag. */
  dragging: boolean;
}

export type ItemsHost = Pick<DrawnContext, "load" | "changed" | "shadows">;

/** What of an element decides how it stands and looks, besides what must be built. */
const standing = ({ placement, hidden, see_through, locked, kind }: Element) =>
  JSON.stringify([
    placement,
    hidden,
    locked,
    see_through,
    "particles" in kind && [kind.particles.appearance, kind.particles.look],
  ]);

export class Items {
  readonly context: DrawnContext;
  #all = new Map<number, Item>();
  #frame: ViewportFrame | null = null;
  #staged: ViewportFrame | null = null;
  #ghost: ViewportFrame | null = null;

  constructor(scene: THREE.Scene, host: ItemsHost) {
    this.context = {
      ...host,
      scene,
      looks: new Looks((change) => host.load(change)),
      geometries: new Geometries(),
      topologies: new Topologies(),
      shot: null,
      shotId: 0,
      frame: 1,
      height: 600,
      judging: () => ({ by: null, every: 1 }),
      weights: null,
      colours: null,
      measured: null,
      cut: null,
      checker: null,
      atRest: null,
      asset: (name) => `/api/shots/${this.context.shotId}/assets/${encodeURIComponent(name)}`,
    };
  }

  /** Sets the shot, sampled at a frame; returns whether any look or pose changed. */
  setShot(shotId: number, shot: Shot, frame: number): boolean {
    let changed = shotId !== this.context.shotId;
    Object.assign(this.context, { shotId, shot, frame });
    const there = new Set(shot.elements.map((element) => element.id));
    for (const [id, item] of this.#all)
      if (!there.has(id)) {
        item.drawn.forEach((drawn) => drawn.dispose());
        this.#all.delete(id);
        this.context.shadows();
        changed = true;
      }
    for (const element of shot.elements) changed = this.#update(element) || changed;
    return changed;
  }

  /** Updates an element; returns whether its look or pose changed. */
  #update(element: Element): boolean {
    const item = this.#all.get(element.id);
    if (item?.element === element) return false;
    if (item && item.drawn.every((drawn) => drawn.update(element))) {
      const changed = standing(item.element) !== standing(element);
      item.element = element;
      return changed;
    }
    item?.drawn.forEach((drawn) => drawn.dispose());
    const drawn = DRAWN.filter((of) => of.draws(element)).map((of) => new of(this.context, element));
    this.#all.set(element.id, { element, drawn });
    return true;
  }

  /** Sets the frames; returns whether any pose changed. */
  setFrames(frame: ViewportFrame | null, staged: ViewportFrame | null, ghost: ViewportFrame | null): boolean {
    const same =
      sameFrame(this.#frame, frame) && sameFrame(this.#staged, staged) && sameFrame(this.#ghost, ghost);
    this.#frame = frame;
    this.#staged = staged;
    this.#ghost = ghost;
    return !same;
  }

  /** Places everything for the next picture. */
  place({ selected, solo, dragging, ...showing }: Showing) {
    for (const [id, { element, drawn }] of this.#all) {
      const bodies = this.bodiesOf(id);
      if (!bodies) continue;
      const chosen = selected.includes(id);
      const shown = !element.hidden && (solo.length === 0 || solo.includes(id));
      const manner = { ...showing, shown, selected: chosen, held: chosen && dragging };
      const parts = {
        bodies,
        mesh: this.#frame?.meshes.get(id),
        particles: this.#frame?.particles.get(id),
        ghost: this.#ghost?.get(id),
      };
      for (const of of drawn) of.show(parts, manner);
    }
  }

  /** The first element on a ray that is not locked. */
  elementAt(ray: THREE.Raycaster): number | null {
    let met: { id: number; distance: number } | null = null;
    for (const [id, { element, drawn }] of this.#all) {
      if (element.locked) continue;
      for (const of of drawn) {
        const distance = of.pick(ray);
        if (distance !== null && distance < (met?.distance ?? Infinity)) met = { id, distance };
      }
    }
    return met?.id ?? null;
  }

  /** Whether the poses in the document have come. */
  get known(): boolean {
    return this.#staged !== null;
  }

  /** The mesh that is drawn of a solid. */
  meshOf(id: number): THREE.InstancedMesh | undefined {
    return this.#all.get(id)?.drawn.find((of) => of instanceof DrawnBodies)?.mesh;
  }

  bodiesOf(id: number): BodiesOfFrame | undefined {
    return this.#frame?.get(id) ?? this.#staged?.get(id);
  }

  /** Where the document has an element. */
  stagedOf(id: number): BodiesOfFrame | undefined {
    return this.#staged?.get(id);
  }

  /** What is drawn of an element by a class. */
  #drawn<T extends Drawn>(item: Item | undefined, of: new (...given: never[]) => T): T | undefined {
    return item?.drawn.find((drawn) => drawn instanceof of) as T | undefined;
  }

  /** The meshes of solids, with their elements. */
  #solids(): [Element, THREE.InstancedMesh][] {
    return [...this.#all.values()].flatMap((item) => {
      const mesh = this.#drawn(item, DrawnBodies)?.mesh;
      return mesh ? [[item.element, mesh] as [Element, THREE.InstancedMesh]] : [];
    });
  }

  /** Positions of the visible solids that are not still, by element, m; of a number of bodies at most. */
  solidPlaces(most: number): Map<number, Float32Array> {
    const places = new Map<number, Float32Array>();
    let count = 0;
    for (const [element, mesh] of this.#solids()) {
      const bodies = mesh.visible && this.bodiesOf(element.id);
      if (!bodies || solidOf(element)?.body?.moves === "still") continue;
      count += bodies.places.length / 3;
      if (count > most) break;
      places.set(element.id, bodies.places);
    }
    return places;
  }

  /** The box around some elements, or around all that is not still. */
  boxOf(ids: number[]): THREE.Box3 {
    const box = new THREE.Box3();
    for (const [element, mesh] of this.#solids()) {
      if (ids.length > 0 && !ids.includes(element.id)) continue;
      if (ids.length === 0 && solidOf(element)?.body?.moves === "still") continue;
      mesh.computeBoundingBox();
      if (mesh.boundingBox) box.union(mesh.boundingBox);
    }
    return box;
  }

  /** The visible bodies. */
  get meshes(): THREE.Object3D[] {
    return this.#solids().flatMap(([, mesh]) => (mesh.visible ? [mesh] : []));
  }

  /** The still bodies onto which others can be put. */
  floors(but: number[]): THREE.Object3D[] {
    return this.#solids().flatMap(([element, mesh]) =>
      mesh.visible && !but.includes(element.id) && solidOf(element)?.body?.moves === "still" ? [mesh] : [],
    );
  }

  /**
   * The elements that handles move, with their poses in the document: none where the solver has moved the
   * last one away. Performed elements have the poses of the frame.
   */
  movables(ids: number[], performing: boolean): Movable[] {
    const movables = ids.flatMap((id) => {
      const item = this.#all.get(id);
      const element = item?.element;
      if (!element || element.locked || element.hidden || "sky" in element.kind) return [];
      const bodies = this.#staged?.get(id);
      const pose = poseOf(performing ? {} : element.placement, bodies);
      const mesh = this.#drawn(item, DrawnBodies)?.mesh;
      const marker = this.#drawn(item, DrawnMarker)?.marker;
      return [{ id, pose, mesh, marker, bodies }];
    });
    const last = movables[movables.length - 1];
    const computed = last && this.#frame?.get(last.id)?.places;
    const staged = last?.bodies?.places;
    const away = computed && staged && [0, 1, 2].some((i) => Math.abs(computed[i] - staged[i]) > 0.002);
    return away ? [] : movables;
  }

  /** Makes the next picture arrange bodies anew that a drag has moved. */
  dropped(ids: number[]) {
    for (const id of ids) this.#drawn(this.#all.get(id), DrawnBodies)?.dropped();
  }
}
