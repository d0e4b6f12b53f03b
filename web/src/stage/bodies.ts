// The bodies of one element as instances.
import * as THREE from "three";
import type { StageBodies } from "./frames";

const matrix = new THREE.Matrix4();
const place = new THREE.Vector3();
const turn = new THREE.Quaternion();
const one = new THREE.Vector3(1, 1, 1);

/** Puts the instances of a mesh where a frame has them. */
export function arrange(mesh: THREE.InstancedMesh, bodies: StageBodies) {
  const count = Math.min(mesh.instanceMatrix.count, bodies.places.length / 3);
  for (let i = 0; i < count; i++) matrixOf(bodies, i).toArray(mesh.instanceMatrix.array, 16 * i);
  mesh.count = count;
  mesh.instanceMatrix.needsUpdate = true;
  mesh.boundingSphere = null;
}

export function matrixOf(bodies: StageBodies, i: number): THREE.Matrix4 {
  const { places, turns } = bodies;
  place.set(places[3 * i], places[3 * i + 1], places[3 * i + 2]);
  turn.set(turns[4 * i], turns[4 * i + 1], turns[4 * i + 2], turns[4 * i + 3]).normalize();
  return matrix.compose(place, turn, one);
}

/** A random shade a copy, as the look's variation asks. */
export function shade(mesh: THREE.InstancedMesh, variation: number) {
  const colour = new THREE.Color();
  for (let i = 0; i < mesh.instanceMatrix.count; i++) {
    const random = Math.abs(Math.sin((i + 1) * 12.9898) * 43758.5453) % 1;
    mesh.setColorAt(i, colour.setScalar(1 - variation * random));
  }
}
