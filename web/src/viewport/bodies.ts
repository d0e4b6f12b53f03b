// The bodies of one element as instances.
import * as THREE from "three";
import type { BodiesOfFrame, ViewportFrame } from "./frames";

const matrix = new THREE.Matrix4();
const place = new THREE.Vector3();
const turn = new THREE.Quaternion();
const size = new THREE.Vector3();

/** Sets the instances of a mesh to the poses of a frame. */
export function arrange(mesh: THREE.InstancedMesh, bodies: BodiesOfFrame) {
  const count = Math.min(mesh.instanceMatrix.count, bodies.places.length / 3);
  for (let i = 0; i < count; i++) matrixOf(bodies, i).toArray(mesh.instanceMatrix.array, 16 * i);
  mesh.count = count;
  mesh.instanceMatrix.needsUpdate = true;
  mesh.boundingSphere = null;
}

/** Whether two frames have the bodies in the same places. */
export function sameBodies(a: BodiesOfFrame, b: BodiesOfFrame): boolean {
  if (a === b) return true;
  const equal = (a: ArrayLike<number>, b: ArrayLike<number>) => {
    if (a.length !== b.length) return false;
    for (let i = 0; i < a.length; i++) if (a[i] !== b[i]) return false;
    return true;
  };
  return equal(a.places, b.places) && equal(a.turns, b.turns) && equal(a.scales ?? [], b.scales ?? []);
}

export function sameFrame(a: ViewportFrame | null, b: ViewportFrame | null): boolean {
  if (a === b) return true;
  if (!a || !b || a.size !== b.size) return false;
  if ([a, b].some(({ particles, meshes }) => particles.size + meshes.size > 0)) return false;
  for (const [id, bodies] of a) {
    const other = b.get(id);
    if (!other || !sameBodies(bodies, other)) return false;
  }
  return true;
}

export function matrixOf(bodies: BodiesOfFrame, i: number): THREE.Matrix4 {
  const { places, turns, scales } = bodies;
  place.set(places[3 * i], places[3 * i + 1], places[3 * i + 2]);
  turn.set(turns[4 * i], turns[4 * i + 1], turns[4 * i + 2], turns[4 * i + 3]).normalize();
  return matrix.compose(place, turn, size.setScalar(scales?.[i] ?? 1));
}

/** A random shade a copy, as the look's variation asks. */
export function shade(mesh: THREE.InstancedMesh, variation: number) {
  const colour = new THREE.Color();
  for (let i = 0; i < mesh.instanceMatrix.count; i++) {
    const random = Math.abs(Math.sin((i + 1) * 12.9898) * 43758.5453) % 1;
    mesh.setColorAt(i, colour.setScalar(1 - variation * random));
  }
}
