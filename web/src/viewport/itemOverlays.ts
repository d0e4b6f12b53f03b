// Overlays on the bodies of one element: outline, collision shapes, weights, ghost.
import * as THREE from "three";
import { arrange } from "./bodies";
import type { BodiesOfFrame } from "./frames";
import { collisionMesh, ghostMesh, layOutline, outline, paintWeights, weightMesh } from "./overlays";

/** The bodies that overlays are laid on: their geometry and their number at most. */
interface Base {
  geometry: THREE.BufferGeometry;
  count: number;
}

export class ItemOverlays {
  #outline: THREE.LineSegments | null = null;
  #collision: THREE.InstancedMesh | null = null;
  #weights: THREE.InstancedMesh | null = null;
  #ghost: THREE.InstancedMesh | null = null;

  constructor(private scene: THREE.Scene) {}

  dispose() {
    this.clear();
    this.outline(null, null);
  }

  /** Removes the overlays that depend on the shape. */
  clear() {
    for (const mesh of [this.#collision, this.#weights, this.#ghost]) this.#drop(mesh);
    this.#collision = this.#weights = this.#ghost = null;
  }

  #add(mesh: THREE.InstancedMesh) {
    this.scene.add(mesh);
    return mesh;
  }

  #drop(mesh: THREE.InstancedMesh | null) {
    if (!mesh) return;
    this.scene.remove(mesh);
    mesh.dispose();
    (mesh.material as THREE.Material).dispose();
  }

  /** The outline of the selection around bodies; none without bodies. */
  outline(base: Base | null, bodies: BodiesOfFrame | null) {
    if (!base || !bodies) {
      if (!this.#outline) return;
      this.scene.remove(this.#outline);
      this.#outline.geometry.dispose();
      (this.#outline.material as THREE.Material).dispose();
      this.#outline = null;
      return;
    }
    if (!this.#outline) {
      this.#outline = outline();
      this.scene.add(this.#outline);
    }
    layOutline(this.#outline, base.geometry, bodies);
  }

  /** Whether the collision shapes are loaded. */
  get hasCollision(): boolean {
    return this.#collision !== null;
  }

  setCollision(base: Base) {
    this.#collision ??= this.#add(collisionMesh(base.geometry, base.count));
  }

  /** Shows the collision shapes on bodies, or hides them without bodies. */
  collision(bodies: BodiesOfFrame | null) {
    if (!this.#collision) return;
    this.#collision.visible = bodies !== null;
    if (bodies) arrange(this.#collision, bodies);
  }

  /** Shows how much weight a region has on bodies. */
  weights(base: Base, bodies: BodiesOfFrame, weights: Float32Array | undefined) {
    if (this.#weights) this.#weights.visible = weights !== undefined;
    if (!weights) return;
    this.#weights ??= this.#add(weightMesh(base.geometry, base.count));
    arrange(this.#weights, bodies);
    paintWeights(this.#weights, weights);
  }

  /** Shows where another run has the bodies. */
  ghost(base: Base, bodies: BodiesOfFrame | undefined) {
    if (this.#ghost) this.#ghost.visible = bodies !== undefined;
    if (!bodies) return;
    this.#ghost ??= this.#add(ghostMesh(base.geometry, base.count));
    arrange(this.#ghost, bodies);
  }
}
