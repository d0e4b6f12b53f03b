// The brush that paints a map on what is drawn: its ring on the surface, and the way of a stroke over the mesh at rest.
import * as THREE from "three";
import type { Vector } from "../api/client";
import { SELECTED } from "./overlays";

/** What the brush paints on. */
export interface BrushTarget {
  element: number;
  /** Positions at rest, whose vertices are those drawn, m; once a copy. */
  rest: Float32Array;
  radius: number;
}

export interface BrushHost {
  /** The mesh that is drawn of an element. */
  mesh(element: number): THREE.InstancedMesh | undefined;
  ray(x: number, y: number): THREE.Raycaster;
  dragging(on: boolean): void;
  changed(): void;
  /** The way of the stroke so far, over the mesh at rest in the element's frame, m. */
  moved(way: Vector[]): void;
  /** A stroke has ended; the normal at rest where it began. */
  painted(way: Vector[], normal: Vector): void;
}

interface Hit {
  rest: THREE.Vector3;
  restNormal: THREE.Vector3;
  point: THREE.Vector3;
  normal: THREE.Vector3;
}

const CORNERS = 48;
/** Points of a stroke at most, as the shot file bounds them. */
const MOST_POINTS = 1000;

export class Brush {
  #target: BrushTarget | null = null;
  #ring = new THREE.LineLoop(
    new THREE.BufferGeometry().setFromPoints(
      Array.from({ length: CORNERS }, (_, i) => {
        const angle = (2 * Math.PI * i) / CORNERS;
        return new THREE.Vector3(Math.cos(angle), Math.sin(angle), 0);
      }),
    ),
    new THREE.LineBasicMaterial({ color: SELECTED, depthTest: false, toneMapped: false }),
  );

  constructor(
    private scene: THREE.Scene,
    private host: BrushHost,
  ) {
    this.#ring.visible = false;
    this.#ring.renderOrder = 6;
    this.#ring.frustumCulled = false;
    scene.add(this.#ring);
  }

  get on(): boolean {
    return this.#target !== null;
  }

  take(target: BrushTarget | null) {
    this.#target = target;
    if (!target && this.#ring.visible) {
      this.#ring.visible = false;
      this.host.changed();
    }
  }

  hover(event: PointerEvent) {
    if (!this.#target) return;
    this.#show(this.#hit(event));
  }

  /** Begins a stroke; returns whether the pointer is on the mesh. */
  press(event: PointerEvent): boolean {
    const target = this.#target;
    const first = target && this.#hit(event);
    if (!target || !first) return false;
    let way: THREE.Vector3[] = [first.rest];
    const vectors = () => way.map((p) => p.toArray().map((v) => Number(v.toFixed(5))) as Vector);
    const move = (to: PointerEvent) => {
      const hit = this.#hit(to);
      this.#show(hit);
      if (!hit || hit.rest.distanceTo(way.at(-1)!) < 0.2 * target.radius) return;
      way.push(hit.rest);
      // A stroke has at most 1,000 points: of a longer one every second counts.
      if (way.length > MOST_POINTS) way = way.filter((_, i) => i % 2 === 0);
      this.host.moved(vectors());
    };
    const release = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", release);
      removeEventListener("pointercancel", release);
      this.host.dragging(false);
      this.host.painted(vectors(), first.restNormal.toArray() as Vector);
    };
    this.host.dragging(true);
    addEventListener("pointermove", move);
    addEventListener("pointerup", release);
    addEventListener("pointercancel", release);
    this.host.moved(vectors());
    return true;
  }

  dispose() {
    this.scene.remove(this.#ring);
    this.#ring.geometry.dispose();
    this.#ring.material.dispose();
  }

  #show(hit: Hit | null) {
    this.#ring.visible = hit !== null;
    if (hit && this.#target) {
      this.#ring.position.copy(hit.point).addScaledVector(hit.normal, 0.002);
      this.#ring.quaternion.setFromUnitVectors(new THREE.Vector3(0, 0, 1), hit.normal);
      this.#ring.scale.setScalar(this.#target.radius);
    }
    this.host.changed();
  }

  /** Where the pointer is on the mesh, in the world and at rest. */
  #hit({ clientX, clientY }: PointerEvent): Hit | null {
    const target = this.#target!;
    const mesh = this.host.mesh(target.element);
    const index = mesh?.geometry.index;
    if (!mesh || !index) return null;
    const [hit] = this.host.ray(clientX, clientY).intersectObject(mesh, false);
    if (!hit?.face || hit.faceIndex == null) return null;
    const vertices = target.rest.length / 3;
    const corners = [0, 1, 2].map((i) => index.getX(3 * hit.faceIndex! + i));
    const drawn = mesh.geometry.getAttribute("position");
    if (drawn.count % vertices !== 0) return null;
    const local = new THREE.Matrix4();
    mesh.getMatrixAt(hit.instanceId ?? 0, local);
    local.premultiply(mesh.matrixWorld);
    const now = corners.map((v) => new THREE.Vector3().fromBufferAttribute(drawn, v).applyMatrix4(local));
    const rest = corners.map((v) => new THREE.Vector3().fromArray(target.rest, 3 * (v % vertices)));
    const weights = THREE.Triangle.getBarycoord(hit.point, now[0], now[1], now[2], new THREE.Vector3());
    if (!weights) return null;
    const at = new THREE.Vector3();
    rest.forEach((corner, i) => at.addScaledVector(corner, weights.getComponent(i)));
    const normal = new THREE.Triangle(...(now as [THREE.Vector3, THREE.Vector3, THREE.Vector3])).getNormal(
      new THREE.Vector3(),
    );
    const restNormal = new THREE.Triangle(
      ...(rest as [THREE.Vector3, THREE.Vector3, THREE.Vector3]),
    ).getNormal(new THREE.Vector3());
    return { rest: at, restNormal, point: hit.point, normal };
  }
}
