// The 3D view: a plain class that draws when something changed.
import * as THREE from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";
import { TransformControls } from "three/addons/controls/TransformControls.js";
import type { Element, Shot, Vector } from "../api/client";
import { countOf, solidOf } from "../state/shot.svelte";
import { arrange, matrixOf, shade } from "./bodies";
import type { StageBodies, StageFrame } from "./frames";
import { Geometries } from "./geometry";
import { Looks } from "./looks";

export type ViewName = "camera" | "free" | "top" | "front" | "side";
export type Handle = "move" | "turn" | "none";

export interface StageEvents {
  pick(element: number | null, add: boolean): void;
  moved(element: number, place: Vector, turn: Vector): void;
  drawn(): void;
}

interface Item {
  element: Element;
  key: string;
  mesh?: THREE.InstancedMesh;
  collision?: THREE.InstancedMesh;
  ghost?: THREE.InstancedMesh;
  outline?: THREE.LineSegments;
  light?: THREE.Light;
}

const SELECTED = 0xc9f26b;

export class Stage {
  readonly scene = new THREE.Scene();
  readonly renderer: THREE.WebGLRenderer;
  view: ViewName = "camera";
  showCollision = false;
  #perspective = new THREE.PerspectiveCamera(45, 1, 0.02, 500);
  #flat = new THREE.OrthographicCamera(-4, 4, 3, -3, -200, 500);
  #orbit: OrbitControls;
  #handles: TransformControls;
  #proxy = new THREE.Object3D();
  #items = new Map<number, Item>();
  #geometries = new Geometries();
  #looks = new Looks(() => this.draw());
  #shot: Shot | null = null;
  #shotId = 0;
  #frame: StageFrame | null = null;
  #staged: StageFrame | null = null;
  #ghost: StageFrame | null = null;
  #selected: number[] = [];
  #handle: Handle = "move";
  #solo: number[] = [];
  #pending = 0;
  #dragging = false;
  #ambient = new THREE.HemisphereLight(0xffffff, 0x333333, 0);
  #grid = new THREE.GridHelper(40, 40, 0x6a7a7c, 0x4a5658);

  constructor(
    private canvas: HTMLCanvasElement,
    private events: StageEvents,
  ) {
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: true, preserveDrawingBuffer: true });
    this.renderer.toneMapping = THREE.NeutralToneMapping;
    this.renderer.shadowMap.enabled = true;
    this.renderer.shadowMap.autoUpdate = false;
    this.scene.background = new THREE.Color(0x3b3e3f);
    this.scene.add(this.#ambient, this.#grid, this.#proxy);
    (this.#grid.material as THREE.Material).transparent = true;
    (this.#grid.material as THREE.Material).opacity = 0.35;
    this.#perspective.position.set(4, 3, 6);
    this.#orbit = new OrbitControls(this.#perspective, canvas);
    this.#orbit.target.set(0, 0.6, 0);
    this.#orbit.addEventListener("change", () => this.draw());
    this.#handles = new TransformControls(this.#perspective, canvas);
    this.#handles.setSize(0.8);
    this.#handles.setColors(0xe08a5f, 0x7fcf8a, 0x7fb2ea, SELECTED);
    this.#handles.addEventListener("change", () => this.draw());
    this.#handles.addEventListener("dragging-changed", ({ value }) => this.#drag(value === true));
    this.#handles.addEventListener("objectChange", () => this.#preview());
    this.scene.add(this.#handles.getHelper());
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
    this.#shot = shot;
    this.#shotId = shotId;
    const there = new Set(shot.elements.map((element) => element.id));
    for (const [id, item] of this.#items)
      if (!there.has(id)) {
        this.#remove(item);
        this.#items.delete(id);
      }
    for (const element of shot.elements) this.#update(element);
    this.#place();
  }

  setFrames(frame: StageFrame | null, staged: StageFrame | null, ghost: StageFrame | null) {
    this.#frame = frame;
    this.#staged = staged;
    this.#ghost = ghost;
    this.#place();
  }

  setSelection(selected: number[], solo: number[], handle: Handle) {
    this.#selected = selected;
    this.#solo = solo;
    this.#handle = handle;
    this.#place();
  }

  /** Handles stand where the document has the element: not where the solver has taken it. */
  #showHandles() {
    if (this.#dragging) return;
    const last = this.#selected[this.#selected.length - 1];
    const element = this.#items.get(last)?.element;
    const computed = this.#frame?.get(last)?.places;
    const staged = this.#staged?.get(last)?.places;
    const away = computed && staged && [0, 1, 2].some((i) => Math.abs(computed[i] - staged[i]) > 0.002);
    const still =
      element && !element.locked && !element.hidden && !("gravity" in element.is || "sky" in element.is);
    if (still && !away && this.#handle !== "none") {
      this.#handles.setMode(this.#handle === "move" ? "translate" : "rotate");
      this.#handles.attach(this.#proxy);
    } else this.#handles.detach();
  }

  setSnap(step: number | null) {
    this.#handles.setTranslationSnap(step);
    this.#handles.setRotationSnap(step === null ? null : Math.PI / 24);
  }

  setView(view: ViewName) {
    this.view = view;
    const flat = view === "top" || view === "front" || view === "side";
    if (flat) {
      const from = { top: [0, 1, 0.0001], front: [0, 0, 1], side: [1, 0, 0] }[view] as Vector;
      this.#flat.position
        .set(...from)
        .multiplyScalar(50)
        .add(this.#orbit.target);
    }
    const camera = flat ? this.#flat : this.#perspective;
    this.#orbit.object = camera;
    this.#orbit.enableRotate = view === "free";
    this.#orbit.enabled = view !== "camera";
    if (view !== "camera") this.#orbit.update();
    this.#handles.camera = camera;
    this.#place();
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

  draw() {
    if (this.#pending) return;
    this.#pending = requestAnimationFrame(() => {
      this.#pending = 0;
      this.renderer.render(this.scene, this.#orbit.object);
      this.events.drawn();
    });
  }

  // Building

  #update(element: Element) {
    const solid = solidOf(element);
    let item = this.#items.get(element.id);
    const key = solid
      ? JSON.stringify([solid.shape, solid.look, countOf(element), solid.body?.collision, solid.body?.moves])
      : JSON.stringify(element.is);
    if (item && item.key === key) {
      item.element = element;
      return;
    }
    if (item) this.#remove(item);
    item = { element, key };
    this.#items.set(element.id, item);
    if (solid) void this.#build(item);
    else this.#light(item);
  }

  async #build(item: Item) {
    const solid = solidOf(item.element)!;
    const shot = this.#shot!;
    const geometry = await this.#geometries.get(this.#shotId, shot, item.element).catch(() => null);
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

  #light(item: Item) {
    const is = item.element.is;
    if ("sun" in is) {
      const light = new THREE.DirectionalLight(new THREE.Color(...is.sun.colour), is.sun.irradiance);
      light.castShadow = true;
      light.shadow.mapSize.set(1024, 1024);
      const reach = 5;
      Object.assign(light.shadow.camera, {
        left: -reach,
        right: reach,
        top: reach,
        bottom: -reach,
        near: 1,
        far: 60,
      });
      light.shadow.bias = -0.0008;
      light.shadow.normalBias = 0.02;
      item.light = light;
      this.scene.add(light, light.target);
    } else if ("area_light" in is) {
      const { size_m, radiance, colour } = is.area_light;
      item.light = new THREE.PointLight(new THREE.Color(...colour), radiance * size_m[0] * size_m[1], 0, 2);
      this.scene.add(item.light);
    }
  }

  #remove(item: Item) {
    for (const object of [item.mesh, item.collision, item.ghost]) {
      if (!object) continue;
      this.scene.remove(object);
      object.dispose();
    }
    if (item.outline) this.scene.remove(item.outline);
    if (item.light) this.scene.remove(item.light);
  }

  // Placing

  #bodiesOf(id: number): StageBodies | undefined {
    return this.#frame?.get(id) ?? this.#staged?.get(id);
  }

  #shown(element: Element): boolean {
    return !element.hidden && (this.#solo.length === 0 || this.#solo.includes(element.id));
  }

  #place() {
    if (!this.#shot) return;
    for (const [id, item] of this.#items) {
      const bodies = this.#bodiesOf(id);
      if (!bodies) continue;
      if (item.mesh) {
        item.mesh.visible = this.#shown(item.element);
        if (!(this.#dragging && this.#selected.includes(id))) arrange(item.mesh, bodies);
        this.#outline(item, bodies);
        this.#overlay(item, bodies);
      }
      if (item.light) this.#aim(item.light, bodies);
    }
    this.#sky();
    this.#camera();
    this.#attach();
    this.#showHandles();
    this.renderer.shadowMap.needsUpdate = true;
    this.draw();
  }

  #outline(item: Item, bodies: StageBodies) {
    const wanted = this.#selected.includes(item.element.id) && this.#shown(item.element);
    if (!wanted) {
      if (item.outline) this.scene.remove(item.outline);
      item.outline = undefined;
      return;
    }
    const edges = this.#edges(item.mesh!.geometry);
    const count = Math.min(
      bodies.places.length / 3,
      Math.max(1, Math.floor(60000 / Math.max(1, edges.count))),
    );
    const points = new Float32Array(3 * edges.count * count);
    const point = new THREE.Vector3();
    for (let i = 0; i < count; i++) {
      const matrix = matrixOf(bodies, i).clone();
      for (let j = 0; j < edges.count; j++) {
        point
          .fromBufferAttribute(edges, j)
          .applyMatrix4(matrix)
          .toArray(points, 3 * (i * edges.count + j));
      }
    }
    if (!item.outline) {
      const material = new THREE.LineBasicMaterial({ color: SELECTED, toneMapped: false });
      item.outline = new THREE.LineSegments(new THREE.BufferGeometry(), material);
      item.outline.frustumCulled = false;
      this.scene.add(item.outline);
    }
    item.outline.geometry.dispose();
    item.outline.geometry = new THREE.BufferGeometry();
    item.outline.geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
  }

  /** Edges of a shape; those of its box where it is round all over. */
  #edges(geometry: THREE.BufferGeometry) {
    const edges = new THREE.EdgesGeometry(geometry, 30).getAttribute("position");
    if (edges.count >= 12) return edges;
    const box = geometry.boundingBox!;
    const size = box.getSize(new THREE.Vector3());
    const centre = box.getCenter(new THREE.Vector3());
    const outer = new THREE.BoxGeometry(size.x, size.y, size.z).translate(centre.x, centre.y, centre.z);
    return new THREE.EdgesGeometry(outer, 30).getAttribute("position");
  }

  #overlay(item: Item, bodies: StageBodies) {
    const wanted = this.showCollision && this.#shown(item.element);
    if (item.collision) item.collision.visible = wanted;
    if (wanted && !item.collision) {
      void this.#geometries.collision(this.#shotId, this.#shot!, item.element).then((geometry) => {
        if (item.collision || this.#items.get(item.element.id) !== item) return;
        const material = new THREE.MeshBasicMaterial({ color: 0x52cbbf, wireframe: true, toneMapped: false });
        item.collision = new THREE.InstancedMesh(geometry, material, countOf(item.element));
        this.scene.add(item.collision);
        this.#place();
      });
    }
    if (wanted && item.collision) arrange(item.collision, bodies);
    const ghost = this.#ghost?.get(item.element.id);
    if (item.ghost) item.ghost.visible = ghost !== undefined;
    if (ghost && solidOf(item.element)?.body?.moves !== "still") {
      if (!item.ghost) {
        const material = new THREE.MeshBasicMaterial({
          color: 0x9fb7f0,
          transparent: true,
          opacity: 0.3,
          depthWrite: false,
        });
        item.ghost = new THREE.InstancedMesh(item.mesh!.geometry, material, countOf(item.element));
        this.scene.add(item.ghost);
      }
      arrange(item.ghost, ghost);
    }
  }

  #aim(light: THREE.Light, bodies: StageBodies) {
    const matrix = matrixOf(bodies, 0);
    if (light instanceof THREE.DirectionalLight) {
      const up = new THREE.Vector3(0, 1, 0).transformDirection(matrix);
      light.position.copy(this.#orbit.target).addScaledVector(up, 25);
      light.target.position.copy(this.#orbit.target);
      light.target.updateMatrixWorld();
    } else light.position.setFromMatrixPosition(matrix);
  }

  #sky() {
    const sky = this.#shot!.elements.find((element) => "sky" in element.is && !element.hidden);
    const is = sky && "sky" in sky.is ? sky.is.sky : undefined;
    const gradient = is && "gradient" in is.source ? is.source.gradient : undefined;
    const strength = is?.strength ?? 0;
    const mean = new THREE.Color(0.5, 0.5, 0.5);
    if (gradient) {
      mean.setRGB(...(gradient.horizon as Vector)).lerp(new THREE.Color(...(gradient.zenith as Vector)), 0.5);
      this.#ambient.groundColor.setRGB(...(gradient.ground as Vector));
    }
    this.#ambient.color.copy(mean);
    this.#ambient.intensity = is ? Math.PI * strength : 0.4;
    const shown = gradient
      ? new THREE.Color(...gradient.horizon).multiplyScalar(strength)
      : new THREE.Color(0.05, 0.05, 0.06);
    (this.scene.background as THREE.Color).copy(this.view === "camera" ? shown : new THREE.Color(0x3b3e3f));
    this.#grid.visible = this.view !== "camera";
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
        const aim = is.aim != null ? this.#bodiesOf(is.aim) : undefined;
        if (aim) this.#perspective.lookAt(aim.places[0], aim.places[1], aim.places[2]);
      }
    }
    this.#perspective.updateProjectionMatrix();
  }

  // Handles and picking

  #attach() {
    if (this.#dragging) return;
    const last = this.#selected[this.#selected.length - 1];
    const placement = this.#items.get(last)?.element.placement;
    if (!placement) return;
    const constant = (param: unknown): Vector | null => (Array.isArray(param) ? (param as Vector) : null);
    const place = constant(placement.place_m);
    const turn = constant(placement.turn_rad);
    const bodies = this.#staged?.get(last);
    if (place) this.#proxy.position.set(...place);
    else if (bodies) this.#proxy.position.fromArray(bodies.places);
    if (turn) this.#proxy.rotation.set(turn[0], turn[1], turn[2], "ZYX");
    else if (bodies) {
      const [x, y, z, w] = bodies.turns;
      this.#proxy.quaternion.set(x, y, z, w).normalize();
      this.#proxy.rotation.setFromQuaternion(this.#proxy.quaternion, "ZYX");
    }
    this.#proxy.updateMatrixWorld();
  }

  #start = new THREE.Matrix4();

  #drag(on: boolean) {
    this.#orbit.enabled = !on && this.view !== "camera";
    if (on) {
      this.#dragging = true;
      this.#proxy.updateMatrixWorld();
      this.#start.copy(this.#proxy.matrixWorld);
      return;
    }
    this.#dragging = false;
    const { position: p, rotation } = this.#proxy;
    const turn = rotation.clone().reorder("ZYX");
    this.events.moved(this.#selected[this.#selected.length - 1], [p.x, p.y, p.z], [turn.x, turn.y, turn.z]);
  }

  /** Shows the dragged bodies where they will be. */
  #preview() {
    const id = this.#selected[this.#selected.length - 1];
    const item = this.#items.get(id);
    const bodies = this.#staged?.get(id);
    if (!item?.mesh || !bodies) return;
    this.#proxy.updateMatrixWorld();
    const change = this.#proxy.matrixWorld.clone().multiply(this.#start.clone().invert());
    for (let i = 0; i < item.mesh.count; i++)
      item.mesh.setMatrixAt(i, change.clone().multiply(matrixOf(bodies, i)));
    item.mesh.instanceMatrix.needsUpdate = true;
    this.renderer.shadowMap.needsUpdate = true;
  }

  #press(event: PointerEvent) {
    if (event.button !== 0 || this.#handles.axis !== null) return;
    const [x, y] = [event.clientX, event.clientY];
    const release = (up: PointerEvent) => {
      this.canvas.removeEventListener("pointerup", release);
      if (Math.hypot(up.clientX - x, up.clientY - y) < 4) this.#pick(up);
    };
    this.canvas.addEventListener("pointerup", release);
  }

  #pick(event: PointerEvent) {
    const box = this.canvas.getBoundingClientRect();
    const at = new THREE.Vector2(
      ((event.clientX - box.left) / box.width) * 2 - 1,
      1 - ((event.clientY - box.top) / box.height) * 2,
    );
    const ray = new THREE.Raycaster();
    ray.setFromCamera(at, this.#orbit.object);
    const meshes = [...this.#items.values()].flatMap((item) =>
      item.mesh && item.mesh.visible && !item.element.locked ? [item.mesh] : [],
    );
    const hit = ray.intersectObjects(meshes, false)[0];
    this.events.pick(hit ? hit.object.userData.element : null, event.shiftKey);
  }

  /** Where a ray through a point of the page meets the floor. */
  floorAt(clientX: number, clientY: number): Vector {
    const box = this.canvas.getBoundingClientRect();
    const ray = new THREE.Raycaster();
    const at = new THREE.Vector2(
      ((clientX - box.left) / box.width) * 2 - 1,
      1 - ((clientY - box.top) / box.height) * 2,
    );
    ray.setFromCamera(at, this.#orbit.object);
    const point = new THREE.Vector3();
    const met = ray.ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 1, 0), 0), point);
    return met && point.length() < 50 ? [point.x, 0, point.z] : [0, 0, 0];
  }
}
