// Where the Viewport is looked at from: the shot's camera, freely, or along an axis.
import * as THREE from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";
import type { Schemas, Vector } from "../api/client";
import { matrixOf } from "./bodies";
import type { BodiesOfFrame } from "./frames";
import { groundAt, rayThrough, seenAt } from "./picking";

export type ViewName = "camera" | "free" | "top" | "front" | "side";

/** Height of what a flat view shows, m. */
const FLAT_M = 6;

export class Eye {
  view: ViewName = "camera";
  #perspective = new THREE.PerspectiveCamera(45, 1, 0.02, 500);
  #flat = new THREE.OrthographicCamera(-4, 4, FLAT_M / 2, -FLAT_M / 2, -200, 500);
  #orbit: OrbitControls;

  constructor(
    private canvas: HTMLCanvasElement,
    changed: () => void,
  ) {
    this.#perspective.position.set(4, 3, 6);
    this.#orbit = new OrbitControls(this.#perspective, canvas);
    this.#orbit.target.set(0, 0.6, 0);
    this.#orbit.addEventListener("change", changed);
  }

  dispose() {
    this.#orbit.dispose();
  }

  /** What it sees through. */
  get camera(): THREE.PerspectiveCamera | THREE.OrthographicCamera {
    return this.#orbit.object as THREE.PerspectiveCamera | THREE.OrthographicCamera;
  }

  get target(): THREE.Vector3 {
    return this.#orbit.target;
  }

  /** Whether dragging beside everything moves the eye. */
  set free(on: boolean) {
    this.#orbit.enabled = on && this.view !== "camera";
  }

  /** Takes up a view; `focus` is how far before the shot's camera the sharp plane is, m. */
  setView(view: ViewName, focus: number) {
    const flat = view === "top" || view === "front" || view === "side";
    if (flat) {
      const from = { top: [0, 1, 0.0001], front: [0, 0, 1], side: [1, 0, 0] }[view] as Vector;
      this.#flat.position
        .set(...from)
        .multiplyScalar(50)
        .add(this.target);
    }
    if (this.view === "camera" && view === "free") this.#stepBack(focus);
    this.view = view;
    this.#orbit.object = flat ? this.#flat : this.#perspective;
    this.#orbit.enableRotate = view === "free";
    this.free = true;
    if (view !== "camera") this.#orbit.update();
  }

  /** Steps back from where the camera stands, so that it is seen too. */
  #stepBack(focus: number) {
    const camera = this.#perspective;
    const ahead = camera.getWorldDirection(new THREE.Vector3());
    this.target.copy(camera.position).addScaledVector(ahead, focus);
    camera.position.addScaledVector(ahead, -0.6 * focus).y += 0.35 * focus;
    camera.fov = 45;
  }

  /** Looks at what is in a ball. */
  frame(sphere: THREE.Sphere) {
    const back = this.camera.position.clone().sub(this.target).normalize();
    this.target.copy(sphere.center);
    this.camera.position.copy(sphere.center).addScaledVector(back, Math.max(0.3, 2.6 * sphere.radius));
    if (this.camera === this.#flat) this.#flat.zoom = 2.4 / Math.max(0.1, sphere.radius);
    this.#flat.updateProjectionMatrix();
    this.#orbit.update();
  }

  /** Fits a canvas, and in the camera's view stands where that stands, so that its picture fits in. */
  fit(
    size: THREE.Vector2,
    film: number,
    camera: Schemas["Camera"] | undefined,
    bodies: BodiesOfFrame | undefined,
  ) {
    const aspect = size.x / Math.max(1, size.y);
    this.#flat.left = (-FLAT_M / 2) * aspect;
    this.#flat.right = (FLAT_M / 2) * aspect;
    this.#flat.updateProjectionMatrix();
    this.#perspective.aspect = aspect;
    if (this.view === "camera" && camera) {
      const half = (0.5 * (camera.sensor_mm ?? 36)) / (camera.focal_length_mm ?? 35);
      this.#perspective.fov = THREE.MathUtils.radToDeg(2 * Math.atan(half / Math.min(film, aspect)));
      const { position, quaternion } = this.#perspective;
      if (bodies) matrixOf(bodies, 0).decompose(position, quaternion, new THREE.Vector3());
    }
    this.#perspective.updateProjectionMatrix();
  }

  ray(clientX: number, clientY: number): THREE.Raycaster {
    return rayThrough(this.canvas, this.camera, clientX, clientY);
  }

  /** Where a place is on the page, px. */
  seen(place: THREE.Vector3): THREE.Vector2 {
    return seenAt(place, this.canvas, this.camera);
  }

  /** On one of the objects under the pointer, on the ground, or, in a flat view, at the depth of `near`. */
  placeAt(event: PointerEvent, objects: THREE.Object3D[], near: THREE.Vector3): THREE.Vector3 | null {
    if (this.camera === this.#flat) return this.besideAt(event, near);
    const ray = this.ray(event.clientX, event.clientY);
    const hit = ray.intersectObjects(objects, false)[0];
    return hit?.point ?? new THREE.Vector3(...groundAt(ray));
  }

  /** The place under the pointer at the depth of another. */
  besideAt(event: PointerEvent, place: THREE.Vector3): THREE.Vector3 | null {
    const facing = this.camera.getWorldDirection(new THREE.Vector3());
    const plane = new THREE.Plane().setFromNormalAndCoplanarPoint(facing, place);
    return this.ray(event.clientX, event.clientY).ray.intersectPlane(plane, new THREE.Vector3());
  }

  /** Right and up of the plane that faces the eye, kept upright; level from the top. */
  get upright(): { right: THREE.Vector3; up: THREE.Vector3 } {
    if (this.view === "top") return { right: new THREE.Vector3(1, 0, 0), up: new THREE.Vector3(0, 0, -1) };
    const ahead = this.camera.getWorldDirection(new THREE.Vector3()).setY(0);
    if (ahead.lengthSq() < 1e-6) ahead.set(0, 0, -1);
    const up = new THREE.Vector3(0, 1, 0);
    return { right: ahead.normalize().cross(up), up };
  }
}
