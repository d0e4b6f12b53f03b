// What is laid over the bodies: the outline of the selection, collision shapes, ghosts.
import * as THREE from "three";
import { matrixOf } from "./bodies";
import type { BodiesOfFrame } from "./frames";

export const SELECTED = 0xc9f26b;
/** Lines drawn at most for one outline: many copies of a fine mesh are not all outlined. */
const OUTLINE_POINTS = 60_000;

/** Meshes with more corners are outlined by their boxes. */
const FINE = 300_000;

const edgesOf = new WeakMap<THREE.BufferGeometry, THREE.BufferAttribute>();

/** Edges of a shape; those of its box where it is round all over. */
function edges(geometry: THREE.BufferGeometry): THREE.BufferAttribute {
  let found = edgesOf.get(geometry);
  if (!found) {
    const fine = (geometry.index?.count ?? 0) > FINE;
    found = sharpEdges(fine ? new THREE.BufferGeometry() : geometry);
    if (fine || found.count < 12) {
      const box = geometry.boundingBox!;
      const size = box.getSize(new THREE.Vector3());
      const centre = box.getCenter(new THREE.Vector3());
      const outer = new THREE.BoxGeometry(size.x, size.y, size.z).translate(centre.x, centre.y, centre.z);
      found = sharpEdges(outer);
    }
    edgesOf.set(geometry, found);
  }
  return found;
}

/** A geometry has another shape than before. */
export function forgetEdges(geometry: THREE.BufferGeometry) {
  edgesOf.delete(geometry);
}

function sharpEdges(geometry: THREE.BufferGeometry): THREE.BufferAttribute {
  return new THREE.EdgesGeometry(geometry, 30).getAttribute("position") as THREE.BufferAttribute;
}

/** An empty outline, to be laid around bodies. */
export function outline(): THREE.LineSegments {
  const material = new THREE.LineBasicMaterial({ color: SELECTED, toneMapped: false });
  const lines = new THREE.LineSegments(new THREE.BufferGeometry(), material);
  lines.frustumCulled = false;
  return lines;
}

/** Lays an outline around the bodies of a mesh. */
export function layOutline(lines: THREE.LineSegments, geometry: THREE.BufferGeometry, bodies: BodiesOfFrame) {
  const around = edges(geometry);
  const most = Math.max(1, Math.floor(OUTLINE_POINTS / Math.max(1, around.count)));
  const count = Math.min(bodies.places.length / 3, most);
  const points = new Float32Array(3 * around.count * count);
  const point = new THREE.Vector3();
  for (let i = 0; i < count; i++) {
    const matrix = matrixOf(bodies, i);
    for (let j = 0; j < around.count; j++)
      point
        .fromBufferAttribute(around, j)
        .applyMatrix4(matrix)
        .toArray(points, 3 * (i * around.count + j));
  }
  lines.geometry.dispose();
  lines.geometry = new THREE.BufferGeometry();
  lines.geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
}

/** Lines within bodies, seen through these: two points each. */
export function interiorLines(points: Float32Array): THREE.LineSegments {
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.BufferAttribute(points, 3));
  const material = new THREE.LineBasicMaterial({
    color: 0x52cbbf,
    transparent: true,
    opacity: 0.55,
    depthTest: false,
    toneMapped: false,
  });
  const lines = new THREE.LineSegments(geometry, material);
  lines.frustumCulled = false;
  return lines;
}

export function collisionMesh(geometry: THREE.BufferGeometry, count: number): THREE.InstancedMesh {
  const material = new THREE.MeshBasicMaterial({ color: 0x52cbbf, wireframe: true, toneMapped: false });
  return new THREE.InstancedMesh(geometry, material, count);
}

/** Light laid on bodies, as strong as a region's weight is there. */
export function weightMesh(geometry: THREE.BufferGeometry, count: number): THREE.InstancedMesh {
  const material = new THREE.MeshBasicMaterial({
    transparent: true,
    opacity: 0.65,
    blending: THREE.AdditiveBlending,
    depthWrite: false,
    polygonOffset: true,
    polygonOffsetFactor: -1,
    polygonOffsetUnits: -1,
    toneMapped: false,
  });
  return new THREE.InstancedMesh(geometry, material, count);
}

/** Colours bodies by their weights: black, which adds nothing, at none. */
export function paintWeights(mesh: THREE.InstancedMesh, weights: Float32Array) {
  const colour = new THREE.Color();
  for (let i = 0; i < Math.min(weights.length, mesh.instanceMatrix.count); i++)
    mesh.setColorAt(i, colour.set(SELECTED).multiplyScalar(weights[i]));
  if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
}

export function ghostMesh(geometry: THREE.BufferGeometry, count: number): THREE.InstancedMesh {
  const material = new THREE.MeshBasicMaterial({
    color: 0x9fb7f0,
    transparent: true,
    opacity: 0.3,
    depthWrite: false,
  });
  return new THREE.InstancedMesh(geometry, material, count);
}
