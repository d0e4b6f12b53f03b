// The 3D view: a plain class that draws when something changed.
import * as THREE from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";
import { api, type Element, type Shot, type Vector } from "../api/client";
import { countOf, solidOf } from "../state/shot.svelte";
import { arrange, matrixOf, sameBodies, sameFrame, shade } from "./bodies";
import type { StageBodies, StageFrame } from "./frames";
import { Geometries } from "./geometry";
import { Handles, poseOf, type Handle, type Moved } from "./handles";
import { aim, lightOf } from "./lights";
import { Looks } from "./looks";
import { linesThrough, markerOf, markerOfLines, placeMarker } from "./markers";
import { elementAt, floorBelow, groundAt, rayThrough } from "./picking";
import { collisionMesh, ghostMesh, layOutline, outline } from "./overlays";
import { Sky } from "./sky";

export type ViewName = "camera" | "free" | "top" | "front" | "side";

export interface StageEvents {
  pick(element: number | null, add: boolean): void;
  moved(moved: Moved[]): void;
  drawn(): void;
}

interface Item {
  element: Element;
  key: string;
  /** What its mesh was last arranged by. */
  shown?: StageBodies;
  mesh?: THREE.InstancedMesh;
  collision?: THREE.InstancedMesh;
  ghost?: THREE.InstancedMesh;
  outline?: THREE.LineSegments;
  light?: THREE.Light;
  marker?: THREE.LineSegments;
}

/** Longest wait for meshes and images before what is there is drawn, ms. */
const LOADING_MS = 500;
/** Behind everything, in the views that are not the camera's. */
const BACKGROUND = new THREE.Color(0x3b3e3f);

/** Whether this machine draws without graphics hardware: edges are then left unsmoothed, for speed. */
function drawnInSoftware(): boolean {
  const gl = document.createElement("canvas").getContext("webgl2");
  const info = gl?.getExtension("WEBGL_debug_renderer_info");
  const name = gl && info ? String(gl.getParameter(info.UNMASKED_RENDERER_WEBGL)) : "";
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  return /swiftshader|llvmpipe|software/i.test(name);
}

export class Stage {
  readonly scene = new THREE.Scene();
  readonly renderer: THREE.WebGLRenderer;
  view: ViewName = "camera";
  showCollision = false;
  #perspective = new THREE.PerspectiveCamera(45, 1, 0.02, 500);
  #flat = new THREE.OrthographicCamera(-4, 4, 3, -3, -200, 500);
  #orbit: OrbitControls;
  #handles: Handles;
  #items = new Map<number, Item>();
  #geometries = new Geometries();
  #looks = new Looks((change) => this.#load(change));
  #shot: Shot | null = null;
  #shotId = 0;
  #frame: StageFrame | null = null;
  #staged: StageFrame | null = null;
  #ghost: StageFrame | null = null;
  #selected: number[] = [];
  #handle: Handle = "move";
  #solo: number[] = [];
  #pending = 0;
  /** Whether anything is to be put in place before drawing. */
  #moved = false;
  #loading = 0;
  #waitUntil = 0;
  #sky: Sky;
  #grid = new THREE.GridHelper(40, 40, 0x6a7a7c, 0x4a5658);

  constructor(
    private canvas: HTMLCanvasElement,
    private events: StageEvents,
  ) {
    const hardware = !drawnInSoftware();
    this.#sky = new Sky(
      this.scene,
      hardware,
      (change) => this.#load(change),
      (colour) => this.#looks.shine(colour),
    );
    this.renderer = new THREE.WebGLRenderer({
      canvas,
      antialias: hardware,
      preserveDrawingBuffer: true,
    });
    this.renderer.toneMapping = THREE.NeutralToneMapping;
    this.renderer.shadowMap.enabled = true;
    this.renderer.shadowMap.autoUpdate = false;
    this.scene.add(this.#grid);
    (this.#grid.material as THREE.Material).transparent = true;
    (this.#grid.material as THREE.Material).opacity = 0.35;
    this.#perspective.position.set(4, 3, 6);
    this.#orbit = new OrbitControls(this.#perspective, canvas);
    this.#orbit.target.set(0, 0.6, 0);
    this.#orbit.addEventListener("change", () => this.draw());
    this.#handles = new Handles(this.scene, this.#perspective, canvas, {
      floorBelow: (point) => floorBelow(point, this.#floors()),
      moved: (moved) => events.moved(moved),
      changed: () => this.#handlesChanged(),
      dragging: (on) => this.#dragging(on),
    });
    canvas.addEventListener("pointerdown", (event) => this.#press(event));
    this.setView("camera");
  }

  dispose() {
    cancelAnimationFrame(this.#pending);
    this.#handles.dispose();
    this.#orbit.dispose();
    this.renderer.dispose();
  }

  // What is shown

  setShot(shotId: number, shot: Shot) {
    const film = (of: Shot | null) => JSON.stringify([of?.camera, of?.picture]);
    let changed = shotId !== this.#shotId || film(shot) !== film(this.#shot);
    this.#shot = shot;
    this.#shotId = shotId;
    const there = new Set(shot.elements.map((element) => element.id));
    for (const [id, item] of this.#items)
      if (!there.has(id)) {
        this.#remove(item);
        this.#items.delete(id);
        this.renderer.shadowMap.needsUpdate = true;
        changed = true;
      }
    for (const element of shot.elements) changed = this.#update(element) || changed;
    this.#sky.update(shotId, shot);
    // A friction, say, looks no different.
    if (changed) this.#place();
  }

  setFrames(frame: StageFrame | null, staged: StageFrame | null, ghost: StageFrame | null) {
    const same =
      sameFrame(this.#frame, frame) && sameFrame(this.#staged, staged) && sameFrame(this.#ghost, ghost);
    this.#frame = frame;
    this.#staged = staged;
    this.#ghost = ghost;
    if (!same) this.#place();
  }

  setSelection(selected: number[], solo: number[], handle: Handle) {
    this.#selected = selected;
    this.#solo = solo;
    this.#handle = handle;
    this.#place();
  }

  setSnap(step: number | null, floor: boolean) {
    this.#handles.setStep(step);
    this.#handles.snapToFloor = floor;
  }

  setView(view: ViewName) {
    const flat = view === "top" || view === "front" || view === "side";
    if (flat) {
      const from = { top: [0, 1, 0.0001], front: [0, 0, 1], side: [1, 0, 0] }[view] as Vector;
      this.#flat.position
        .set(...from)
        .multiplyScalar(50)
        .add(this.#orbit.target);
    }
    const camera = flat ? this.#flat : this.#perspective;
    if (this.view === "camera" && view === "free") this.#stepBack();
    this.view = view;
    this.#orbit.object = camera;
    this.#orbit.enableRotate = view === "free";
    this.#orbit.enabled = view !== "camera";
    if (view !== "camera") this.#orbit.update();
    this.#handles.setCamera(camera);
    this.#place();
  }

  /** Steps back from where the camera stands, so that it is seen too. */
  #stepBack() {
    const camera = this.#perspective;
    const ahead = camera.getWorldDirection(new THREE.Vector3());
    const element = this.#items.get(this.#shot?.camera ?? -1)?.element;
    const focus = element && "camera" in element.is ? (element.is.camera.focus_m ?? 5) : 5;
    this.#orbit.target.copy(camera.position).addScaledVector(ahead, focus);
    camera.position.addScaledVector(ahead, -0.6 * focus).y += 0.35 * focus;
    camera.fov = 45;
  }

  /** Looks at the selected bodies, or at everything. */
  frameSelection() {
    const box = new THREE.Box3();
    for (const [id, item] of this.#items) {
      if (!item.mesh || (this.#selected.length > 0 && !this.#selected.includes(id))) continue;
      if (this.#selected.length === 0 && solidOf(item.element)?.body?.moves === "still") continue;
      item.mesh.computeBoundingBox();
      if (item.mesh.boundingBox) box.union(item.mesh.boundingBox);
    }
    if (box.isEmpty()) return;
    if (this.view === "camera") this.setView("free");
    const sphere = box.getBoundingSphere(new THREE.Sphere());
    const camera = this.#orbit.object;
    const back = camera.position.clone().sub(this.#orbit.target).normalize();
    this.#orbit.target.copy(sphere.center);
    camera.position.copy(sphere.center).addScaledVector(back, Math.max(0.3, 2.6 * sphere.radius));
    if (camera === this.#flat) this.#flat.zoom = 2.4 / Math.max(0.1, sphere.radius);
    this.#flat.updateProjectionMatrix();
    this.#orbit.update();
    this.draw();
  }

  resize(width: number, height: number, ratio: number) {
    this.renderer.setPixelRatio(ratio);
    this.renderer.setSize(width, height, false);
    this.#place();
  }

  /** The picture's edges on the canvas, in pixels of the page. */
  gate(width: number, height: number): { x: number; y: number; width: number; height: number } | null {
    if (!this.#shot) return null;
    const aspect = this.#shot.picture.width / this.#shot.picture.height;
    const gateWidth = Math.min(width, height * aspect);
    const gateHeight = gateWidth / aspect;
    return { x: (width - gateWidth) / 2, y: (height - gateHeight) / 2, width: gateWidth, height: gateHeight };
  }

  /** Draws once before the next frame of the page, whatever is asked for until then. */
  draw() {
    if (this.#pending) return;
    this.#pending = requestAnimationFrame(() => {
      this.#pending = 0;
      // Nothing is known yet of what there is to draw.
      if (!this.#shot || !this.#staged) return;
      if (this.#loading > 0 && performance.now() < this.#waitUntil) return this.draw();
      if (this.#moved) this.#placeAll();
      this.renderer.render(this.scene, this.#orbit.object);
      this.events.drawn();
    });
  }

  #load(change: 1 | -1) {
    if (this.#loading === 0) this.#waitUntil = performance.now() + LOADING_MS;
    this.#loading += change;
    this.#place();
  }

  // Building

  /** Takes up an element as it is now; whether it looks or stands any different. */
  #update(element: Element): boolean {
    const solid = solidOf(element);
    let item = this.#items.get(element.id);
    if (item?.element === element) return false;
    const key = solid
      ? JSON.stringify([solid.shape, solid.look, countOf(element), solid.body?.collision, solid.body?.moves])
      : JSON.stringify(element.is);
    if (item && item.key === key) {
      const stands = ({ placement, hidden, locked }: Element) => JSON.stringify([placement, hidden, locked]);
      const changed = stands(item.element) !== stands(element);
      item.element = element;
      return changed;
    }
    if (item) this.#remove(item);
    item = { element, key };
    this.#items.set(element.id, item);
    if (solid) void this.#build(item);
    else {
      item.light = lightOf(element);
      if (item.light) this.scene.add(item.light);
      if (item.light instanceof THREE.DirectionalLight) this.scene.add(item.light.target);
      const { width, height } = this.#shot!.picture;
      item.marker = markerOf(element, width / height);
      if (item.marker) this.scene.add(item.marker);
      if ("curve" in element.is) void this.#buildCurve(item);
    }
    return true;
  }

  async #build(item: Item) {
    const solid = solidOf(item.element)!;
    const shot = this.#shot!;
    this.#load(1);
    const geometry = await this.#geometries.get(this.#shotId, shot, item.element).catch(() => null);
    this.#load(-1);
    if (!geometry || this.#items.get(item.element.id) !== item) return;
    const look = solid.look ?? {};
    const image = look.image
      ? `/api/shots/${this.#shotId}/assets/${encodeURIComponent(look.image)}`
      : undefined;
    const count = countOf(item.element);
    item.mesh = new THREE.InstancedMesh(geometry, this.#looks.get(look, image), count);
    item.mesh.castShadow = item.mesh.receiveShadow = true;
    item.mesh.userData.element = item.element.id;
    shade(item.mesh, look.variation ?? 0);
    this.scene.add(item.mesh);
    this.#place();
  }

  async #buildCurve(item: Item) {
    const strokes = await api.strokes(this.#shotId, item.element.id).catch(() => null);
    if (!strokes || this.#items.get(item.element.id) !== item) return;
    item.marker = markerOfLines(item.element.id, linesThrough(strokes as Vector[][]));
    this.scene.add(item.marker);
    this.#place();
  }

  #remove(item: Item) {
    for (const object of [item.mesh, item.collision, item.ghost]) {
      if (!object) continue;
      this.scene.remove(object);
      object.dispose();
    }
    if (item.outline) this.scene.remove(item.outline);
    if (item.marker) this.scene.remove(item.marker);
    if (item.light) this.scene.remove(item.light);
    if (item.light instanceof THREE.DirectionalLight) this.scene.remove(item.light.target);
  }

  // Placing

  #bodiesOf(id: number): StageBodies | undefined {
    return this.#frame?.get(id) ?? this.#staged?.get(id);
  }

  #shown(element: Element): boolean {
    return !element.hidden && (this.#solo.length === 0 || this.#solo.includes(element.id));
  }

  #place() {
    this.#moved = true;
    this.draw();
  }

  #placeAll() {
    this.#moved = false;
    if (!this.#shot) return;
    for (const [id, item] of this.#items) {
      const bodies = this.#bodiesOf(id);
      if (!bodies) continue;
      if (item.mesh) {
        const visible = this.#shown(item.element);
        if (item.mesh.visible !== visible) this.renderer.shadowMap.needsUpdate = true;
        item.mesh.visible = visible;
        this.#arrange(item, bodies);
        this.#outline(item, bodies);
        this.#overlay(item, bodies);
      }
      if (item.marker) {
        const chosen = this.#selected.includes(id);
        const seen = this.view !== "camera" || (chosen && !("camera" in item.element.is));
        item.marker.visible = seen && this.#shown(item.element);
        placeMarker(item.marker, bodies, chosen);
      }
      if (item.light && aim(item.light, bodies, this.#orbit.target))
        this.renderer.shadowMap.needsUpdate = true;
    }
    this.#sky.background(this.view === "camera" ? null : BACKGROUND);
    this.#grid.visible = this.view !== "camera";
    this.#camera();
    this.#attach();
  }

  #arrange(item: Item, bodies: StageBodies) {
    if (this.#handles.dragging && this.#selected.includes(item.element.id)) return;
    if (item.shown && sameBodies(item.shown, bodies)) return;
    arrange(item.mesh!, bodies);
    item.shown = bodies;
    this.renderer.shadowMap.needsUpdate = true;
  }

  #outline(item: Item, bodies: StageBodies) {
    const wanted = this.#selected.includes(item.element.id) && this.#shown(item.element);
    if (!wanted) {
      if (item.outline) this.scene.remove(item.outline);
      item.outline = undefined;
      return;
    }
    if (!item.outline) {
      item.outline = outline();
      this.scene.add(item.outline);
    }
    layOutline(item.outline, item.mesh!.geometry, bodies);
  }

  #overlay(item: Item, bodies: StageBodies) {
    const wanted = this.showCollision && this.#shown(item.element);
    if (item.collision) item.collision.visible = wanted;
    if (wanted && !item.collision) {
      void this.#geometries.collision(this.#shotId, this.#shot!, item.element).then((geometry) => {
        if (item.collision || this.#items.get(item.element.id) !== item) return;
        item.collision = collisionMesh(geometry, countOf(item.element));
        this.scene.add(item.collision);
        this.#place();
      });
    }
    if (wanted && item.collision) arrange(item.collision, bodies);
    const ghost = this.#ghost?.get(item.element.id);
    if (item.ghost) item.ghost.visible = ghost !== undefined;
    if (ghost && solidOf(item.element)?.body?.moves !== "still") {
      if (!item.ghost) {
        item.ghost = ghostMesh(item.mesh!.geometry, countOf(item.element));
        this.scene.add(item.ghost);
      }
      arrange(item.ghost, ghost);
    }
  }

  #camera() {
    const size = this.renderer.getSize(new THREE.Vector2());
    const aspect = size.x / Math.max(1, size.y);
    this.#flat.left = -3 * aspect;
    this.#flat.right = 3 * aspect;
    this.#flat.updateProjectionMatrix();
    const element = this.#shot!.elements.find((element) => element.id === this.#shot!.camera);
    const is = element && "camera" in element.is ? element.is.camera : undefined;
    this.renderer.toneMappingExposure = 2 ** (is?.exposure ?? 0);
    this.#perspective.aspect = aspect;
    if (this.view === "camera" && element && is) {
      const film = this.#shot!.picture.width / this.#shot!.picture.height;
      const half = (0.5 * (is.sensor_mm ?? 36)) / (is.focal_length_mm ?? 35);
      this.#perspective.fov = THREE.MathUtils.radToDeg(2 * Math.atan(half / Math.min(film, aspect)));
      const bodies = this.#staged?.get(element.id);
      if (bodies) {
        matrixOf(bodies, 0).decompose(
          this.#perspective.position,
          this.#perspective.quaternion,
          new THREE.Vector3(),
        );
      }
    }
    this.#perspective.updateProjectionMatrix();
  }

  // Handles and picking

  /** Handles stand where the document has the elements: not where the solver has taken the last one. */
  #attach() {
    const movables = this.#selected.flatMap((id) => {
      const item = this.#items.get(id);
      const element = item?.element;
      if (!element || element.locked || element.hidden || "sky" in element.is) return [];
      const bodies = this.#staged?.get(id);
      return [{ id, pose: poseOf(element.placement, bodies), mesh: item.mesh, bodies }];
    });
    const last = movables[movables.length - 1];
    const computed = last && this.#frame?.get(last.id)?.places;
    const staged = last?.bodies?.places;
    const away = computed && staged && [0, 1, 2].some((i) => Math.abs(computed[i] - staged[i]) > 0.002);
    this.#handles.attach(away ? [] : movables, this.#handle);
  }

  #dragging(on: boolean) {
    this.#orbit.enabled = !on && this.view !== "camera";
    // Where the drag has put them is not where the document has them yet.
    if (!on) for (const id of this.#selected) delete this.#items.get(id)?.shown;
    this.#place();
  }

  #handlesChanged() {
    if (this.#handles?.dragging) this.renderer.shadowMap.needsUpdate = true;
    this.draw();
  }

  #floors(): THREE.Object3D[] {
    return [...this.#items.values()].flatMap((item) =>
      item.mesh?.visible &&
      !this.#selected.includes(item.element.id) &&
      solidOf(item.element)?.body?.moves === "still"
        ? [item.mesh]
        : [],
    );
  }

  #press(event: PointerEvent) {
    if (event.button !== 0 || this.#handles.held) return;
    const [x, y] = [event.clientX, event.clientY];
    const release = (up: PointerEvent) => {
      this.canvas.removeEventListener("pointerup", release);
      if (Math.hypot(up.clientX - x, up.clientY - y) < 4) this.#pick(up);
    };
    this.canvas.addEventListener("pointerup", release);
  }

  #pick(event: PointerEvent) {
    const objects = [...this.#items.values()].flatMap((item) => {
      const object = item.mesh ?? item.marker;
      return object?.visible && !item.element.locked ? [object] : [];
    });
    this.events.pick(elementAt(this.#ray(event.clientX, event.clientY), objects), event.shiftKey);
  }

  /** What is looked at: its middle, and the plane through it that faces the eye, kept upright. */
  lookedAt(): { centre: THREE.Vector3; right: THREE.Vector3; up: THREE.Vector3 } {
    const chosen = this.#selected.map((id) => this.#bodiesOf(id)).find((bodies) => bodies);
    const centre = chosen
      ? new THREE.Vector3(...(chosen.places.slice(0, 3) as unknown as Vector))
      : this.#orbit.target.clone();
    if (this.view === "top")
      return { centre, right: new THREE.Vector3(1, 0, 0), up: new THREE.Vector3(0, 0, -1) };
    const ahead = this.#orbit.object.getWorldDirection(new THREE.Vector3()).setY(0);
    if (ahead.lengthSq() < 1e-6) ahead.set(0, 0, -1);
    const up = new THREE.Vector3(0, 1, 0);
    return { centre, right: ahead.normalize().cross(up), up };
  }

  /** Where a ray through a point of the page meets the ground. */
  groundAt(clientX: number, clientY: number): Vector {
    return groundAt(this.#ray(clientX, clientY));
  }

  #ray(clientX: number, clientY: number): THREE.Raycaster {
    return rayThrough(this.canvas, this.#orbit.object, clientX, clientY);
  }
}
