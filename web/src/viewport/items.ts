// The elements of a shot as objects of the scene.
import * as THREE from "three";
import { api, type Element, type Shot, type Vector } from "../api/client";
import { countOf, particlesOf, solidOf } from "../state/shot.svelte";
import { arrange, sameBodies, sameFrame, shade } from "./bodies";
import type { BodiesOfFrame, ViewportFrame } from "./frames";
import { DeformingGeometry, Topologies } from "./deforming";
import { Geometries } from "./geometry";
import type { Judging } from "./appearance";
import type { Copied } from "./particleInstances";
import { ParticleCloud } from "./particles";
import { poseOf, type Movable } from "./handles";
import { aim, lightOf } from "./lights";
import { Looks } from "./looks";
import { linesThrough, markerOf, markerOfLines, placeMarker } from "./markers";
import { ItemOverlays } from "./itemOverlays";
import { forgetEdges } from "./overlays";
import { metFirst } from "./picking";

/** Distance beside a particle at which it is still picked, as a fraction of the distance to the eye. */
const GRAIN_SLACK = 0.004;

interface Item {
  element: Element;
  key: string;
  /** Key of its shape and collision shape. */
  shape: string;
  /** The bodies of the last arrangement of its mesh. */
  shown?: BodiesOfFrame;
  mesh?: THREE.InstancedMesh;
  /** Its rest shape, where frames have others. */
  rest?: THREE.BufferGeometry;
  deforming?: DeformingGeometry;
  overlays: ItemOverlays;
  light?: THREE.Light;
  marker?: THREE.LineSegments;
  clouds?: ParticleCloud;
  /** The inputs of the last drawing of its particles. */
  drawn?: unknown[];
  /** The solids that its particles are instances of; null until loaded. */
  copied?: (Copied | null)[];
}

/** How the elements are shown. */
export interface Showing {
  selected: number[];
  /** Elements shown alone; without any, all are. */
  solo: number[];
  collision: boolean;
  /** Whether the selected elements are being dragged, and keep the poses of the drag. */
  dragging: boolean;
  /** Whether the view is not the camera's. */
  outside: boolean;
  /** The point that the view looks at. */
  target: THREE.Vector3;
}

export interface ItemsHost {
  /** +1 when a load begins, −1 when it ends or fails. */
  load(change: 1 | -1): void;
  /** A loaded object must be placed. */
  changed(): void;
  /** Shadows must be drawn anew. */
  shadows(): void;
}

export class Items {
  readonly looks: Looks;
  /** How particles are judged, by element. */
  judging: (element: number) => Judging = () => ({ by: null, every: 1 });
  /** The picture's height, pixels. */
  height = 600;
  /** Weights of a region, by element. */
  weights: Map<number, Float32Array> | null = null;
  #all = new Map<number, Item>();
  #geometries = new Geometries();
  #topologies = new Topologies();
  #shot: Shot | null = null;
  #shotId = 0;
  #number = 1;
  #frame: ViewportFrame | null = null;
  #staged: ViewportFrame | null = null;
  #ghost: ViewportFrame | null = null;

  constructor(
    private scene: THREE.Scene,
    private host: ItemsHost,
  ) {
    this.looks = new Looks((change) => host.load(change));
  }

  /** Sets the shot, sampled at a frame; returns whether any look or pose changed. */
  setShot(shotId: number, shot: Shot, frame: number): boolean {
    this.#number = frame;
    let changed = shotId !== this.#shotId;
    this.#shot = shot;
    this.#shotId = shotId;
    const there = new Set(shot.elements.map((element) => element.id));
    for (const [id, item] of this.#all)
      if (!there.has(id)) {
        this.#remove(item);
        this.#all.delete(id);
        this.host.shadows();
        changed = true;
      }
    for (const element of shot.elements) changed = this.#update(element) || changed;
    return changed;
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

  /** Whether the poses in the document have come. */
  get known(): boolean {
    return this.#staged !== null;
  }

  bodiesOf(id: number): BodiesOfFrame | undefined {
    return this.#frame?.get(id) ?? this.#staged?.get(id);
  }

  /** Where the document has an element. */
  stagedOf(id: number): BodiesOfFrame | undefined {
    return this.#staged?.get(id);
  }

  /** Positions of the visible solids that are not still, by element, m; of a number of bodies at most. */
  solidPlaces(most: number): Map<number, Float32Array> {
    const places = new Map<number, Float32Array>();
    let count = 0;
    for (const [id, item] of this.#all) {
      const bodies = item.mesh?.visible && this.bodiesOf(id);
      if (!bodies || solidOf(item.element)?.body?.moves === "still") continue;
      count += bodies.places.length / 3;
      if (count > most) break;
      places.set(id, bodies.places);
    }
    return places;
  }

  /** The box around some elements, or around all that is not still. */
  boxOf(ids: number[]): THREE.Box3 {
    const box = new THREE.Box3();
    for (const [id, item] of this.#all) {
      if (!item.mesh || (ids.length > 0 && !ids.includes(id))) continue;
      if (ids.length === 0 && solidOf(item.element)?.body?.moves === "still") continue;
      item.mesh.computeBoundingBox();
      if (item.mesh.boundingBox) box.union(item.mesh.boundingBox);
    }
    return box;
  }

  /** The first element on a ray that is not locked. */
  elementAt(ray: THREE.Raycaster): number | null {
    const items = [...this.#all.values()].filter((item) => !item.element.locked);
    const objects = items.flatMap((item) => {
      const object = item.mesh ?? item.marker;
      return object?.visible ? [object] : [];
    });
    let met = metFirst(ray, objects);
    for (const { clouds, element } of items) {
      const distance = clouds?.metBy(ray.ray, GRAIN_SLACK) ?? null;
      if (distance !== null && distance < (met?.distance ?? Infinity))
        met = { element: element.id, distance };
    }
    return met?.element ?? null;
  }

  /** The visible bodies. */
  get meshes(): THREE.Object3D[] {
    return [...this.#all.values()].flatMap((item) => (item.mesh?.visible ? [item.mesh] : []));
  }

  /** The still bodies onto which others can be put. */
  floors(but: number[]): THREE.Object3D[] {
    return [...this.#all.values()].flatMap(({ mesh, element }) =>
      mesh?.visible && !but.includes(element.id) && solidOf(element)?.body?.moves === "still" ? [mesh] : [],
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
      return [{ id, pose, mesh: item.mesh, marker: item.marker, bodies }];
    });
    const last = movables[movables.length - 1];
    const computed = last && this.#frame?.get(last.id)?.places;
    const staged = last?.bodies?.places;
    const away = computed && staged && [0, 1, 2].some((i) => Math.abs(computed[i] - staged[i]) > 0.002);
    return away ? [] : movables;
  }

  /** Makes the next picture arrange bodies anew that a drag has moved. */
  dropped(ids: number[]) {
    for (const id of ids) delete this.#all.get(id)?.shown;
  }

  // Building

  /** Updates an element; returns whether its look or pose changed. */
  #update(element: Element): boolean {
    const solid = solidOf(element);
    let item = this.#all.get(element.id);
    if (item?.element === element) return false;
    const shape = solid ? JSON.stringify([solid.shape, solid.body?.collision, solid.body?.moves]) : "";
    const particles = particlesOf(element);
    // Particles are drawn from the frame; only instances need building.
    const key = JSON.stringify(
      solid
        ? [solid.look, countOf(element)]
        : particles
          ? [particles.source, particles.appearance?.form]
          : element.kind,
    );
    if (item && item.key === key && item.shape !== shape) {
      item.element = element;
      item.shape = shape;
      void this.#reshape(item);
      return false;
    }
    if (item && item.key === key) {
      const stands = ({ placement, hidden, locked, kind }: Element) =>
        JSON.stringify([
          placement,
          hidden,
          locked,
          "particles" in kind && [kind.particles.appearance, kind.particles.look],
        ]);
      const changed = stands(item.element) !== stands(element);
      item.element = element;
      return changed;
    }
    if (item) this.#remove(item);
    item = { element, key, shape, overlays: new ItemOverlays(this.scene) };
    this.#all.set(element.id, item);
    if (solid) void this.#build(item);
    else {
      if (particlesOf(element)) this.#buildParticles(item);
      item.light = lightOf(element);
      if (item.light) this.scene.add(item.light);
      if (item.light instanceof THREE.DirectionalLight) this.scene.add(item.light.target);
      const { width, height } = this.#shot!.picture;
      item.marker = markerOf(element, width / height);
      if (item.marker) this.scene.add(item.marker);
      if ("curve" in element.kind) void this.#buildCurve(item);
    }
    return true;
  }

  async #geometry(item: Item): Promise<THREE.BufferGeometry | null> {
    this.host.load(1);
    const { shape } = item;
    const geometry = await this.#geometries
      .get(this.#shotId, this.#shot!, item.element, this.#number)
      .catch(() => null);
    this.host.load(-1);
    return this.#all.get(item.element.id) === item && item.shape === shape ? geometry : null;
  }

  /** Replaces the shape of a body once the new one is loaded. */
  async #reshape(item: Item) {
    const geometry = await this.#geometry(item);
    if (!geometry) return;
    if (!item.mesh) return void this.#build(item);
    item.overlays.clear();
    item.mesh.geometry = item.rest = geometry;
    this.host.shadows();
    this.host.changed();
  }

  async #build(item: Item) {
    const solid = solidOf(item.element)!;
    const geometry = await this.#geometry(item);
    if (!geometry || item.mesh) return;
    const look = solid.look ?? {};
    const count = countOf(item.element);
    item.mesh = new THREE.InstancedMesh(
      geometry,
      this.looks.get(look, (name) => this.#asset(name)),
      count,
    );
    item.rest = geometry;
    item.mesh.castShadow = item.mesh.receiveShadow = true;
    item.mesh.userData.element = item.element.id;
    shade(item.mesh, look.variation ?? 0);
    this.scene.add(item.mesh);
    this.host.changed();
  }

  /** Where an asset's bytes are. */
  #asset(name: string) {
    return `/api/shots/${this.#shotId}/assets/${encodeURIComponent(name)}`;
  }

  async #buildCurve(item: Item) {
    const strokes = await api.strokes(this.#shotId, item.element.id, this.#number).catch(() => null);
    if (!strokes || this.#all.get(item.element.id) !== item) return;
    item.marker = markerOfLines(item.element.id, linesThrough(strokes as Vector[][]));
    this.scene.add(item.marker);
    this.host.changed();
  }

  #buildParticles(item: Item) {
    item.clouds = new ParticleCloud(item.element.id);
    this.scene.add(item.clouds.group);
    const form = particlesOf(item.element)!.appearance?.form;
    if (!form || typeof form !== "object" || !("instance" in form)) return;
    item.copied = form.instance.solids.map(() => null);
    form.instance.solids.forEach((id, which) => void this.#buildCopied(item, id, which));
  }

  async #buildCopied(item: Item, id: number, which: number) {
    const element = this.#shot!.elements.find((element) => element.id === id);
    const solid = solidOf(element);
    if (!element || !solid) return;
    this.host.load(1);
    const geometry = await this.#geometries
      .get(this.#shotId, this.#shot!, element, this.#number)
      .catch(() => null);
    this.host.load(-1);
    if (!geometry || this.#all.get(item.element.id) !== item) return;
    const look = solid.look ?? {};
    item.copied![which] = { geometry, material: this.looks.get(look, (name) => this.#asset(name)) };
    item.drawn = undefined;
    this.host.changed();
  }

  #remove(item: Item) {
    item.overlays.dispose();
    if (item.clouds) {
      this.scene.remove(item.clouds.group);
      item.clouds.dispose();
    }
    item.deforming?.dispose();
    if (item.mesh) {
      this.scene.remove(item.mesh);
      item.mesh.dispose();
    }
    if (item.marker) this.scene.remove(item.marker);
    if (item.light) this.scene.remove(item.light);
    if (item.light instanceof THREE.DirectionalLight) this.scene.remove(item.light.target);
  }

  // Placing

  /** Places everything for the next picture. */
  place(showing: Showing) {
    for (const [id, item] of this.#all) {
      const bodies = this.bodiesOf(id);
      if (!bodies) continue;
      const chosen = showing.selected.includes(id);
      const shown = !item.element.hidden && (showing.solo.length === 0 || showing.solo.includes(id));
      const held = chosen && showing.dragging;
      if (item.mesh) {
        if (item.mesh.visible !== shown) this.host.shadows();
        item.mesh.visible = shown;
        this.#deform(item, item.mesh);
        if (!held && !(item.shown && sameBodies(item.shown, bodies))) {
          arrange(item.mesh, bodies);
          item.shown = bodies;
          this.host.shadows();
        }
        const base = { geometry: item.mesh.geometry, count: countOf(item.element) };
        item.overlays.outline(chosen && shown ? base : null, bodies);
        this.#collision(item, showing.collision && shown ? bodies : null);
        item.overlays.weights(base, bodies, shown ? this.weights?.get(id) : undefined);
        const still = solidOf(item.element)?.body?.moves === "still";
        item.overlays.ghost(base, still ? undefined : this.#ghost?.get(id));
      }
      if (item.clouds) this.#clouds(item, shown);
      if (item.marker) {
        const seen = showing.outside || (chosen && !("camera" in item.element.kind));
        item.marker.visible = seen && shown;
        if (!held) placeMarker(item.marker, bodies, chosen);
      }
      if (item.light && aim(item.light, bodies, showing.target)) this.host.shadows();
    }
  }

  /** Gives a mesh the shape that the frame has for it, or its rest shape. */
  #deform(item: Item, mesh: THREE.InstancedMesh) {
    const deformed = this.#frame?.meshes.get(item.element.id);
    if (!deformed) {
      if (item.rest && mesh.geometry !== item.rest) this.#reform(item, mesh, item.rest);
      return;
    }
    item.deforming ??= new DeformingGeometry();
    const { deforming } = item;
    if (deforming.shows(deformed)) {
      if (mesh.geometry !== deforming.geometry) this.#reform(item, mesh, deforming.geometry);
      return;
    }
    const topology = this.#topologies.known(this.#shotId, deformed.topology);
    if (topology) {
      deforming.show(deformed, topology);
      return this.#reform(item, mesh, deforming.geometry);
    }
    this.host.load(1);
    const loaded = () => this.host.load(-1);
    this.#topologies.get(this.#shotId, deformed).then(loaded, loaded);
  }

  #reform(item: Item, mesh: THREE.InstancedMesh, geometry: THREE.BufferGeometry) {
    mesh.geometry = geometry;
    mesh.boundingSphere = mesh.boundingBox = null;
    forgetEdges(geometry);
    item.overlays.clear();
    this.host.shadows();
  }

  #clouds(item: Item, shown: boolean) {
    const { clouds, element } = item;
    const particles = this.#frame?.particles.get(element.id);
    clouds!.group.visible = shown && particles !== undefined;
    if (!particles || !shown) return;
    const judging = this.judging(element.id);
    const drawn = [particles, element, judging.by, judging.every];
    if (drawn.some((part, i) => part !== item.drawn?.[i])) {
      clouds!.show(particles, particlesOf(element)!, judging, item.copied ?? []);
      item.drawn = drawn;
      if (item.copied) this.host.shadows();
    }
    clouds!.setHeight(this.height);
  }

  #collision(item: Item, bodies: BodiesOfFrame | null) {
    item.overlays.collision(bodies);
    if (!bodies || item.overlays.hasCollision) return;
    if (item.mesh && item.deforming?.geometry === item.mesh.geometry) {
      // It is met as it is.
      return item.overlays.setCollision({ geometry: item.mesh.geometry, count: countOf(item.element) });
    }
    void this.#geometries.collision(this.#shotId, this.#shot!, item.element).then((geometry) => {
      if (this.#all.get(item.element.id) !== item) return;
      item.overlays.setCollision({ geometry, count: countOf(item.element) });
      this.host.changed();
    });
  }
}
