// What a ray meets: through a point of the page, or straight down.
import * as THREE from "three";
import type { Vector } from "../api/client";

/** Furthest place on the ground that something is put down at, m from the origin. */
const GROUND_M = 50;

/** The ray through a point of the page. */
export function rayThrough(
  canvas: HTMLCanvasElement,
  camera: THREE.Camera,
  clientX: number,
  clientY: number,
): THREE.Raycaster {
  const box = canvas.getBoundingClientRect();
  const x = ((clientX - box.left) / box.width) * 2 - 1;
  const y = 1 - ((clientY - box.top) / box.height) * 2;
  const ray = new THREE.Raycaster();
  ray.params.Line.threshold = 0.05;
  ray.setFromCamera(new THREE.Vector2(x, y), camera);
  return ray;
}

/** Where a place is seen on the page, px. */
export function seenAt(place: THREE.Vector3, canvas: HTMLCanvasElement, camera: THREE.Camera): THREE.Vector2 {
  const box = canvas.getBoundingClientRect();
  const { x, y } = place.clone().project(camera);
  return new THREE.Vector2(box.left + ((x + 1) / 2) * box.width, box.top + ((1 - y) / 2) * box.height);
}

/** Where a ray meets the ground; the origin if that is nowhere near. */
export function groundAt({ ray }: THREE.Raycaster): Vector {
  const point = new THREE.Vector3();
  const met = ray.intersectPlane(new THREE.Plane(new THREE.Vector3(0, 1, 0), 0), point);
  return met && point.length() < GROUND_M ? [point.x, 0, point.z] : [0, 0, 0];
}

/** Height of the floors below a point; without any, of the ground. */
export function floorBelow(point: THREE.Vector3, floors: THREE.Object3D[]): number {
  const from = point.clone().setY(point.y + 100);
  const ray = new THREE.Raycaster(from, new THREE.Vector3(0, -1, 0));
  const heights = ray.intersectObjects(floors, false).map((hit) => hit.point.y);
  return heights.find((y) => y <= point.y) ?? 0;
}
