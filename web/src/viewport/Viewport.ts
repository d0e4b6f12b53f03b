// The 3D view: a plain class that draws when something changed.
import * as THREE from "three";
import type { Element, Shot, Vector } from "../api/client";
import { matrixOf } from "./bodies";
import { Brush, type BrushTarget } from "./brush";
import { CurvePoints, type CurveShown } from "./curve";
import type { DrawnContext } from "./drawn/drawn";
import { Eye, type ViewName } from "./eye";
import type { ViewportFrame } from "./frames";
import { Handles, type Handle, type Moved } from "./handles";
import type { MeasuredParticles } from "../state/colouring";
import type { Judging } from "./appearance";
import { planeOf, type Cut } from "./cut";
import { Items } from "./items";
import { Pace, timed } from "./pace";
import { interiorLines } from "./overlays";
import { floorBelow, groundAt } from "./picking";
import { Sky } from "./sky";

export interface ViewportEvents {
  pick(element: number | null, add: boolean): void;
  moved(moved: Moved[]): void;
  /** Where a drag has taken elements so far. */
  moving(moved: Moved[]): void;
  /** Points of a curve were dragged to where they are now. */
  curveMoved(id: number, points: Vector[]): void;
  /** The way of the brush so far, over the mesh at rest. */
  brushed(way: Vector[]): void;
  /** A stroke of the brush has ended; the normal at rest where it began. */
  painted(way: Vector[], normal: Vector): void;
  /** So many points of a curve are drawn. */
  curveDrawn(count: number): void;
  drawn(): void;
}

/** Longest wait for meshes and images before a picture without them, ms. */
const LOADING_MS = 1200;
/** A picture this long after the last one is one at rest, ms. */
const REST_MS = 400;
/** Background of the views other than the camera's. */
const BACKGROUND = new THREE.Color(0x3b3e3f);

/** Whether this machine draws without graphics hardware: edges are then left unsmoothed, for speed. */
function drawnInSoftware(): boolean {
  const gl = document.createElement("canvas").getContext("webgl2");
  const info = gl?.getExtension("WEBGL_debug_renderer_info");
  const name = gl && info ? String(gl.getParameter(info.UNMASKED_RENDERER_WEBGL)) : "";
  gl?.getExtension("WEBGL_lose_context")?.loseContext();
  return /swiftshader|llvmpipe|software/i.test(name);
}

export class Viewport {
  readonly scene = new THREE.Scene();
  readonly renderer: THREE.WebGLRenderer;
  /** Whether this machine draws without graphics hardware. */
  readonly inSoftware: boolean;
  /** Whether the selection is performed: it has the pose of the frame, and is dragged without handles. */
  performing = false;
  #eye: Eye;
  #handles: Handles;
  /** The cells that carry soft bodies. */
  #interior: THREE.LineSegments | null = null;
  #curve: CurvePoints;
  #brush: Brush;
  #items: Items;
  #sky: Sky;
  #grid = new THREE.GridHelper(40, 40, 0x6a7a7c, 0x4a5658);
  #shot: Shot | null = null;
  #selected: number[] = [];
  #handle: Handle = "move";
  #solo: number[] = [];
  #disposed = false;
  #collision = false;
  #pending = 0;
  /** Whether anything is to be put in place before drawing. */
  #moved = false;
  #loading = 0;
  #waitUntil = 0;
  /** Pixels drawn a pixel of the page, at rest. */
  #ratio = 1;
  #pace = new Pace();
  #drawnAt = -Infinity;
  #resting: number | undefined;

  constructor(
    private canvas: HTMLCanvasElement,
    private events: ViewportEvents,
  ) {
    const hardware = !(this.inSoftware = drawnInSoftware());
    const load = (change: 1 | -1) => this.#load(change);
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: hardware, preserveDrawingBuffer: true });
    this.renderer.toneMapping = THREE.NeutralToneMapping;
    this.renderer.localClippingEnabled = true;
    this.renderer.shadowMap.enabled = true;
    this.renderer.shadowMap.autoUpdate = false;
    this.#items = new Items(this.scene, {
      load,
      changed: () => this.#place(),
      shadows: () => (this.renderer.shadowMap.needsUpdate = true),
    });
    this.#sky = new Sky(this.scene, hardware, load, (colour) => this.#items.context.looks.shine(colour));
    this.scene.add(this.#grid);
    (this.#grid.material as THREE.Material).transparent = true;
    (this.#grid.material as THREE.Material).opacity = 0.35;
    this.#eye = new Eye(canvas, () => this.draw());
    this.#handles = new Handles(this.scene, this.#eye.camera, canvas, {
      floorBelow: (point) => floorBelow(point, this.#items.floors(this.#selected)),
      moved: (moved) => events.moved(moved),
      moving: (moved) => events.moving(moved),
      changed: () => this.#handlesChanged(),
      dragging: (on) => this.#dragging(on),
    });
    this.#curve = new CurvePoints(this.scene, {
      frame: (id) => {
        const bodies = this.#items.bodiesOf(id);
        return bodies ? matrixOf(bodies, 0).clone() : null;
      },
      place: (event, near) => this.#eye.placeAt(event, this.#items.meshes, near),
      beside: (event, place) => this.#eye.besideAt(event, place),
      seen: (place) => this.#eye.seen(place),
      dragging: (on) => this.#dragging(on),
      changed: () => this.draw(),
      moved: (id, points) => events.curveMoved(id, points),
      drawn: (count) => events.curveDrawn(count),
    });
    this.#brush = new Brush(this.scene, {
      mesh: (id) => this.#items.meshOf(id),
      ray: (x, y) => this.#eye.ray(x, y),
      dragging: (on) => (this.#eye.free = !on),
      changed: () => this.draw(),
      moved: (way) => events.brushed(way),
      painted: (way, normal) => events.painted(way, normal),
    });
    canvas.addEventListener("pointerdown", (event) => this.#press(event));
    canvas.addEventListener("pointermove", (event) => this.#brush.hover(event));
    this.setView("camera");
  }

  dispose() {
    this.#disposed = true;
    cancelAnimationFrame(this.#pending);
    clearTimeout(this.#resting);
    this.#handles.dispose();
    this.#brush.dispose();
    this.#eye.dispose();
    this.renderer.dispose();
    // Frees all geometries, materials and images at once; a browser has few contexts.
    this.renderer.forceContextLoss();
  }

  // What is shown

  setShot(shotId: number, shot: Shot, frame: number) {
    const film = (of: Shot | null) => JSON.stringify([of?.camera, of?.picture]);
    const reframed = film(shot) !== film(this.#shot);
    this.#shot = shot;
    const changed = this.#items.setShot(shotId, shot, frame);
    this.#sky.update(shotId, shot);
    // A friction, say, looks no different.
    if (changed || reframed) this.#place();
  }

  /** Shows frames; returns whether they differ from those shown before. */
  setFrames(frame: ViewportFrame | null, staged: ViewportFrame | null, ghost: ViewportFrame | null): boolean {
    const changed = this.#items.setFrames(frame, staged, ghost);
    if (changed) this.#place();
    return changed;
  }

  setSelection(selected: number[], solo: number[], handle: Handle) {
    const key = (of: unknown[]) => JSON.stringify(of);
    if (key([selected, solo, handle]) === key([this.#selected, this.#solo, this.#handle])) return;
    // Handles of the last selection must not take a press before the next picture.
    if (String(selected) !== String(this.#selected)) this.#handles.attach([], handle);
    this.#selected = selected;
    this.#solo = solo;
    this.#handle = handle;
    this.#place();
  }

  /** Positions of the visible solids that are not still, by element, m; of a number of bodies at most. */
  solidPlaces(most: number): Map<number, Float32Array> {
    return this.#items.solidPlaces(most);
  }

  /** Shows the collision shapes, or hides them. */
  setCollision(on: boolean) {
    if (on === this.#collision) return;
    this.#collision = on;
    this.#place();
  }

  /** Shows the weight of a region on bodies. */
  showWeights(weights: Map<number, Float32Array> | null) {
    this.#items.context.weights = weights;
    this.#place();
  }

  /** Colours of the vertices of what deforms, by element; null: all has its own look. */
  setColours(colours: Map<number, Float32Array> | null) {
    if (colours === null && this.#items.context.colours === null) return;
    this.#items.context.colours = colours;
    this.#place();
  }

  /** What is measured of particles, by element; null: all have their own look. */
  setMeasured(measured: Map<number, MeasuredParticles> | null) {
    if (measured === null && this.#items.context.measured === null) return;
    this.#items.context.measured = measured;
    this.#place();
  }

  /** Cuts liquids by a plane; null: they are whole. */
  setCut(cut: Cut | null) {
    if (cut === null && this.#items.context.cut === null) return;
    this.#items.context.cut = cut && planeOf(cut);
    this.#place();
  }

  /** Draws lines in space, two points each; null: none. */
  setInterior(points: Float32Array | null) {
    if (points === null && this.#interior === null) return;
    if (this.#interior) {
      this.scene.remove(this.#interior);
      this.#interior.geometry.dispose();
      (this.#interior.material as THREE.Material).dispose();
    }
    this.#interior = points && interiorLines(points);
    if (this.#interior) this.scene.add(this.#interior);
    this.draw();
  }

  /** Lays a checker on the UVs of elements; null: all have their own looks. */
  setChecker(checker: Set<number> | null) {
    if (checker === null && this.#items.context.checker === null) return;
    this.#items.context.checker = checker;
    this.#place();
  }

  /** Shows meshes at rest in place of shapes where frames have none. */
  setAtRest(meshes: DrawnContext["atRest"]) {
    if (meshes === null && this.#items.context.atRest === null) return;
    this.#items.context.atRest = meshes;
    this.#place();
  }

  /** Lets the pointer paint. */
  setBrush(target: BrushTarget | null) {
    if (target === null && !this.#brush.on) return;
    this.#brush.take(target);
    this.#place();
  }

  /** How particles are judged, by element. */
  setJudging(judging: (element: number) => Judging) {
    this.#items.context.judging = judging;
    this.#place();
  }

  /** Shows the points of a curve, to be dragged or drawn anew. */
  setCurve(curve: CurveShown | null) {
    if (curve === null && !this.#curve.shown) return;
    this.#curve.show(curve);
    this.#place();
  }

  /** The points of the curve being drawn, in its own frame. */
  get curveDrawn(): Vector[] | null {
    return this.#curve.drawn();
  }

  setSnap(step: number | null, floor: boolean) {
    this.#handles.setStep(step);
    this.#handles.snapToFloor = floor;
  }

  setView(view: ViewName) {
    const { kind } = this.#camera ?? {};
    this.#eye.setView(view, (kind && "camera" in kind ? kind.camera.focus_distance_m : undefined) ?? 5);
    this.#handles.setCamera(this.#eye.camera);
    this.#place();
  }

  /** Looks at the selected bodies, or at everything. */
  frameSelection() {
    const box = this.#items.boxOf(this.#selected);
    if (box.isEmpty()) return;
    if (this.#eye.view === "camera") this.setView("free");
    this.#eye.frame(box.getBoundingSphere(new THREE.Sphere()));
    this.draw();
  }

  /** Whether the middle of the selection lies within the view. */
  seesSelection(): boolean {
    const box = this.#items.boxOf(this.#selected);
    if (box.isEmpty()) return true;
    const at = box.getCenter(new THREE.Vector3()).project(this.#eye.camera);
    return Math.abs(at.x) < 0.95 && Math.abs(at.y) < 0.95 && at.z < 1;
  }

  /** Gives the canvas the focus, so that keys go to the Desk. */
  focus() {
    this.renderer.domElement.focus();
  }

  resize(width: number, height: number, ratio: number) {
    this.#ratio = ratio;
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

  /** The picture as it is drawn, as a JPEG file, so many pixels wide: within the gate where the
   * camera is looked through. */
  async drawing(width: number): Promise<Blob> {
    const size = this.renderer.getSize(new THREE.Vector2());
    const whole = { x: 0, y: 0, width: size.x, height: size.y };
    const gate = this.#eye.view === "camera" ? (this.gate(size.x, size.y) ?? whole) : whole;
    const ratio = Math.min(3, width / gate.width);
    this.renderer.setPixelRatio(ratio);
    // Streaks are as wide as the picture's pixels ask for.
    this.#placeAll();
    this.renderer.shadowMap.needsUpdate = true;
    this.renderer.render(this.scene, this.#eye.camera);
    const flat = document.createElement("canvas");
    // A film's pixels come in pairs.
    flat.width = Math.floor(width / 2) * 2;
    flat.height = Math.floor((width * gate.height) / gate.width / 2) * 2;
    const from = [gate.x, gate.y, gate.width, gate.height].map((n) => n * ratio);
    const context = flat.getContext("2d")!;
    context.drawImage(this.canvas, from[0], from[1], from[2], from[3], 0, 0, flat.width, flat.height);
    // The page has its own picture again before it is shown.
    this.renderer.setPixelRatio(this.#ratio);
    this.#placeAll();
    this.renderer.render(this.scene, this.#eye.camera);
    return new Promise((resolve, reject) =>
      flat.toBlob((blob) => (blob ? resolve(blob) : reject(new Error("no picture"))), "image/jpeg", 0.92),
    );
  }

  /** The middle of the selection or of the view, and the upright plane through it that faces the eye. */
  lookedAt(): { centre: THREE.Vector3; right: THREE.Vector3; up: THREE.Vector3 } {
    const chosen = this.#selected.map((id) => this.#items.bodiesOf(id)).find((bodies) => bodies);
    const centre = chosen
      ? new THREE.Vector3(...(chosen.places.slice(0, 3) as unknown as Vector))
      : this.#eye.target.clone();
    return { centre, ...this.#eye.upright };
  }

  /** Where a ray through a point of the page meets the ground. */
  groundAt(clientX: number, clientY: number): Vector {
    return groundAt(this.#eye.ray(clientX, clientY));
  }

  // Drawing

  /** Draws once before the next frame of the page, whatever is asked for until then. */
  draw() {
    if (this.#pending || this.#disposed) return;
    this.#pending = requestAnimationFrame(() => {
      // Neither the shot nor its poses have come.
      const known = this.#shot !== null && this.#items.known;
      const waiting = this.#loading > 0 && performance.now() < this.#waitUntil;
      // Handles that are attached ask for a picture: this one.
      if (known && !waiting && this.#moved) this.#placeAll();
      this.#pending = 0;
      if (!known) return;
      if (waiting) return this.draw();
      this.#render(performance.now() - this.#drawnAt < REST_MS);
      this.events.drawn();
      if (this.#moved) this.draw();
    });
  }

  /** Draws: sharp at rest, as sharp as is quick enough in motion. */
  #render(moving: boolean) {
    this.#drawnAt = performance.now();
    const ratio = this.#ratio * (moving ? this.#pace.ratio : 1);
    if (ratio !== this.renderer.getPixelRatio()) this.renderer.setPixelRatio(ratio);
    const wanted = this.renderer.shadowMap.needsUpdate;
    if (moving && !this.#pace.shadows) this.renderer.shadowMap.needsUpdate = false;
    this.renderer.render(this.scene, this.#eye.camera);
    clearTimeout(this.#resting);
    if (!moving) return;
    timed(this.renderer.getContext() as WebGL2RenderingContext, (ms) => this.#pace.drawn(ms));
    this.#resting = window.setTimeout(() => {
      if (ratio === this.#ratio && this.#pace.shadows) return;
      if (wanted) this.renderer.shadowMap.needsUpdate = true;
      this.draw();
    }, REST_MS + 50);
  }

  #load(change: 1 | -1) {
    if (this.#loading === 0) this.#waitUntil = performance.now() + LOADING_MS;
    this.#loading += change;
    this.#place();
  }

  #place() {
    this.#moved = true;
    this.draw();
  }

  #placeAll() {
    this.#moved = false;
    const outside = this.#eye.view !== "camera";
    this.#items.context.height = this.renderer.domElement.height;
    this.#items.place({
      selected: this.#selected,
      solo: this.#solo,
      collision: this.#collision,
      dragging: this.#handles.dragging,
      outside,
      target: this.#eye.target,
    });
    this.#sky.background(outside ? BACKGROUND : null);
    // An empty shot has nothing but this grid of metres to judge size and position by.
    const empty = !this.#shot?.elements.some(({ kind }) => "solid" in kind || "particles" in kind);
    this.#grid.visible = outside || empty;
    this.#look();
    this.#curve.lay();
    const movables =
      this.#curve.drawing || this.#brush.on ? [] : this.#items.movables(this.#selected, this.performing);
    this.#handles.attach(movables, this.#handle);
  }

  /** The camera that renders. */
  get #camera(): Element | undefined {
    return this.#shot?.elements.find((element) => element.id === this.#shot!.camera);
  }

  #look() {
    const { width, height } = this.#shot!.picture;
    const element = this.#camera;
    const camera = element && "camera" in element.kind ? element.kind.camera : undefined;
    this.renderer.toneMappingExposure = 2 ** (camera?.exposure ?? 0);
    const bodies = element && this.#items.stagedOf(element.id);
    this.#eye.fit(this.renderer.getSize(new THREE.Vector2()), width / height, camera, bodies);
  }

  // The pointer

  #dragging(on: boolean) {
    this.#eye.free = !on;
    // The document does not have the dragged poses yet.
    if (!on) this.#items.dropped(this.#selected);
    this.#place();
  }

  #handlesChanged() {
    if (this.#handles?.dragging) this.renderer.shadowMap.needsUpdate = true;
    this.draw();
  }

  #press(event: PointerEvent) {
    if (event.button !== 0) return;
    // Beside the mesh the brush lets the view turn.
    if (this.#brush.on) return void this.#brush.press(event);
    if (this.#handles.held || this.#curve.press(event)) return;
    if (this.performing && this.#grab(event)) return;
    const [x, y] = [event.clientX, event.clientY];
    const release = (up: PointerEvent) => {
      this.canvas.removeEventListener("pointerup", release);
      if (Math.hypot(up.clientX - x, up.clientY - y) < 4) this.#pick(up);
    };
    this.canvas.addEventListener("pointerup", release);
  }

  #pick({ clientX, clientY, shiftKey }: PointerEvent) {
    this.events.pick(this.#items.elementAt(this.#eye.ray(clientX, clientY)), shiftKey);
  }

  /** Starts a drag of the selection, if the pointer is on it. */
  #grab({ clientX: x, clientY: y }: PointerEvent): boolean {
    const ray = this.#eye.ray(x, y);
    const id = this.#items.elementAt(ray);
    if (id === null || !this.#selected.includes(id)) return false;
    const grabbed = this.#handles.grab(ray);
    if (!grabbed) return false;
    const move = (event: PointerEvent) =>
      grabbed.move(this.#eye.ray(event.clientX, event.clientY), event.clientX - x, event.clientY - y);
    // Raw pointer updates come more often than pictures, where the browser has them.
    const moves = "onpointerrawupdate" in window ? "pointerrawupdate" : "pointermove";
    const release = () => {
      removeEventListener(moves, move as EventListener);
      removeEventListener("pointerup", release);
      grabbed.release();
    };
    addEventListener(moves, move as EventListener);
    addEventListener("pointerup", release);
    return true;
  }
}
