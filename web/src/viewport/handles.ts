// The handles: move or turn what is selected, with snapping to a step and to the floor.
import * as THREE from "three";
import { TransformControls } from "three/addons/controls/TransformControls.js";
import type { Vector } from "../api/client";
import { matrixOf } from "./bodies";
import type { BodiesOfFrame } from "./frames";

export type Handle = "move" | "turn";

/** An element the handles move. */
export interface Movable {
  id: number;
  /** Pose in the document. */
  pose: THREE.Matrix4;
  mesh?: THREE.InstancedMesh;
  /** Lines in place of a mesh. */
  marker?: THREE.Object3D;
  bodies?: BodiesOfFrame;
}

/** Where an element has been moved to. */
export interface Moved {
  id: number;
  place: Vector;
  /** Euler angles about the fixed axes x, y, z. */
  turn: Vector;
}

export interface HandlesHost {
  /** Height of the still body below a point. */
  floorBelow(point: THREE.Vector3): number;
  moved(moved: Moved[]): void;
  /** Poses during a drag. */
  moving(moved: Moved[]): void;
  changed(): void;
  /** A drag begins or ends. */
  dragging(on: boolean): void;
}

/** Distance to the floor within which a body snaps onto it, m. */
const FLOOR_REACH = 0.15;
const TURN_STEP = Math.PI / 24;
/** How far something held turns, rad. */
const TURN_PER_PIXEL = 0.01;

/** Something held by the pointer. */
export interface Grabbed {
  /** The pointer's ray, and pixels to the right and down since it was taken. */
  move(ray: THREE.Raycaster, right: number, down: number): void;
  release(): void;
}

export class Handles {
  dragging = false;
  snapToFloor = false;
  #controls: TransformControls;
  #proxy = new THREE.Object3D();
  #start = new THREE.Matrix4();
  #movables: Movable[] = [];

  constructor(
    scene: THREE.Scene,
    camera: THREE.Camera,
    canvas: HTMLElement,
    private host: HandlesHost,
  ) {
    this.#controls = new TransformControls(camera, canvas);
    this.#controls.setSize(0.8);
    this.#controls.setColors(0xe08a5f, 0x7fcf8a, 0x7fb2ea, 0xc9f26b);
    this.#controls.addEventListener("change", () => host.changed());
    this.#controls.addEventListener("dragging-changed", ({ value }) => this.#drag(value === true));
    this.#controls.addEventListener("objectChange", () => this.#preview());
    scene.add(this.#proxy, this.#controls.getHelper());
  }

  dispose() {
    this.#controls.dispose();
  }

  /** Whether the pointer is over a handle. */
  get held(): boolean {
    return this.#controls.axis !== null;
  }

  setCamera(camera: THREE.Camera) {
    this.#controls.camera = camera;
  }

  setStep(step: number | null) {
    this.#controls.setTranslationSnap(step);
    this.#controls.setRotationSnap(step === null ? null : TURN_STEP);
  }

  /** Attaches the handles to the last of the movables; hides them without any. */
  attach(movables: Movable[], handle: Handle) {
    if (this.dragging) return;
    this.#movables = movables;
    const last = movables[movables.length - 1];
    if (!last) {
      this.#controls.detach();
      return;
    }
    last.pose.decompose(this.#proxy.position, this.#proxy.quaternion, this.#proxy.scale);
    this.#proxy.updateMatrixWorld();
    this.#controls.setMode(handle === "move" ? "translate" : "rotate");
    this.#controls.attach(this.#proxy);
  }

  /** The transform of the drag so far. */
  #change(): THREE.Matrix4 {
    this.#proxy.updateMatrixWorld();
    return this.#proxy.matrixWorld.clone().multiply(this.#start.clone().invert());
  }

  #drag(on: boolean) {
    this.dragging = on;
    this.host.dragging(on);
    if (on) {
      this.#proxy.updateMatrixWorld();
      this.#start.copy(this.#proxy.matrixWorld);
      return;
    }
    this.host.moved(this.#moved());
  }

  #moved(): Moved[] {
    const change = this.#change();
    return this.#movables.map(({ id, pose }) => movedBy(id, pose, change));
  }

  /** Starts a drag without a handle: the attached elements follow the pointer. */
  grab(ray: THREE.Raycaster): Grabbed | null {
    if (this.#movables.length === 0 || this.dragging) return null;
    const place = this.#proxy.position.clone();
    const turn = this.#proxy.quaternion.clone();
    const facing = new THREE.Plane().setFromNormalAndCoplanarPoint(
      this.#controls.camera.getWorldDirection(new THREE.Vector3()),
      place,
    );
    const hit = ray.ray.intersectPlane(facing, new THREE.Vector3());
    if (!hit) return null;
    this.#drag(true);
    return {
      move: (ray, right, down) => {
        if (this.#controls.getMode() === "translate") {
          const to = ray.ray.intersectPlane(facing, new THREE.Vector3());
          if (to) this.#proxy.position.copy(place).add(to.sub(hit));
        } else {
          const eye = this.#controls.camera.quaternion;
          const axis = (x: number, y: number) => new THREE.Vector3(x, y, 0).applyQuaternion(eye);
          const by = new THREE.Quaternion().setFromAxisAngle(axis(0, 1), TURN_PER_PIXEL * right);
          by.premultiply(new THREE.Quaternion().setFromAxisAngle(axis(1, 0), TURN_PER_PIXEL * down));
          this.#proxy.quaternion.copy(turn).premultiply(by);
        }
        this.#preview();
      },
      release: () => this.#drag(false),
    };
  }

  /** Shows the dragged bodies at their new poses. */
  #preview() {
    if (!this.dragging) return;
    if (this.snapToFloor && this.#controls.getMode() === "translate") this.#settle();
    const change = this.#change();
    for (const { mesh, marker, bodies } of this.#movables) {
      if (!bodies) continue;
      if (marker) {
        marker.matrix.multiplyMatrices(change, matrixOf(bodies, 0));
        marker.matrixWorldNeedsUpdate = true;
      }
      for (let i = 0; i < (mesh?.count ?? 0); i++)
        mesh!.setMatrixAt(i, change.clone().multiply(matrixOf(bodies, i)));
      if (mesh) mesh.instanceMatrix.needsUpdate = true;
    }
    this.host.changed();
    this.host.moving(this.#moved());
  }

  /** Snaps the dragged bodies onto the floor, or up out of it, once they are near. */
  #settle() {
    const box = new THREE.Box3();
    for (const { mesh, bodies } of this.#movables) {
      if (!mesh || !bodies) continue;
      for (let i = 0; i < mesh.count; i++)
        box.union(mesh.geometry.boundingBox!.clone().applyMatrix4(matrixOf(bodies, i)));
    }
    if (box.isEmpty()) return;
    box.applyMatrix4(this.#change());
    const centre = box.getCenter(new THREE.Vector3());
    const gap = box.min.y - this.host.floorBelow(centre);
    if (Math.abs(gap) < FLOOR_REACH) this.#proxy.position.y -= gap;
  }
}

/** The pose after a transform. */
export function movedBy(id: number, pose: THREE.Matrix4, change: THREE.Matrix4): Moved {
  const [place, turn] = [new THREE.Vector3(), new THREE.Quaternion()];
  change.clone().multiply(pose).decompose(place, turn, new THREE.Vector3());
  const angles = new THREE.Euler().setFromQuaternion(turn, "ZYX");
  return { id, place: place.toArray(), turn: [angles.x, angles.y, angles.z] };
}

/** Pose of an element in the document; the frame's pose where it is keyed. */
export function poseOf(
  placement: { position_m?: unknown; orientation_rad?: unknown },
  bodies: BodiesOfFrame | undefined,
): THREE.Matrix4 {
  const [place, turn] = [new THREE.Vector3(), new THREE.Quaternion()];
  if (bodies) matrixOf(bodies, 0).decompose(place, turn, new THREE.Vector3());
  if (Array.isArray(placement.position_m)) place.fromArray(placement.position_m);
  if (Array.isArray(placement.orientation_rad)) {
    const [x, y, z] = placement.orientation_rad as Vector;
    turn.setFromEuler(new THREE.Euler(x, y, z, "ZYX"));
  }
  return new THREE.Matrix4().compose(place, turn, new THREE.Vector3(1, 1, 1));
}
