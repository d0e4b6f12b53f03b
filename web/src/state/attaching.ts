// Attaching elements to others, where they stand or to their new base's place.
import * as THREE from "three";
import { api, type Element, type Operation, type Vector } from "../api/client";
import { decodeFrame, type BodiesOfFrame } from "../viewport/frames";
import { notices } from "./notices.svelte";
import { playback } from "./playback.svelte";
import { shot } from "./shot.svelte";

function matrixOf(bodies: BodiesOfFrame): THREE.Matrix4 {
  const [x, y, z, w] = bodies.turns;
  const turn = new THREE.Quaternion(x, y, z, w).normalize();
  return new THREE.Matrix4().compose(
    new THREE.Vector3(...(bodies.places.slice(0, 3) as unknown as Vector)),
    turn,
    new THREE.Vector3(1, 1, 1),
  );
}

/** Place and turn of a matrix as a document has them: turns about the fixed axes x, y, z. */
export function placementOf(matrix: THREE.Matrix4): { position_m: Vector; orientation_rad: Vector } {
  const [place, turn, size] = [new THREE.Vector3(), new THREE.Quaternion(), new THREE.Vector3()];
  matrix.decompose(place, turn, size);
  const angles = new THREE.Euler().setFromQuaternion(turn, "ZYX");
  const tidy = (v: number) => Number(v.toFixed(5));
  return {
    position_m: [place.x, place.y, place.z].map(tidy) as Vector,
    orientation_rad: [angles.x, angles.y, angles.z].map(tidy) as Vector,
  };
}

/** A new place in the world as one relative to what carries an element, which is at `world` by `local`. */
export function relative(
  local: { position_m?: number[]; orientation_rad?: number[] },
  world: BodiesOfFrame,
  next: { position_m: Vector; orientation_rad: Vector },
): { position_m: Vector; orientation_rad: Vector } {
  const base = matrixOf(world).multiply(matrixAt(local).invert());
  return placementOf(base.invert().multiply(matrixAt(next)));
}

function matrixAt({
  position_m,
  orientation_rad,
}: {
  position_m?: number[];
  orientation_rad?: number[];
}): THREE.Matrix4 {
  const [x, y, z] = orientation_rad ?? [0, 0, 0];
  const turn = new THREE.Quaternion().setFromEuler(new THREE.Euler(x, y, z, "ZYX"));
  const place = new THREE.Vector3(...((position_m ?? [0, 0, 0]) as Vector));
  return new THREE.Matrix4().compose(place, turn, new THREE.Vector3(1, 1, 1));
}

/** Attaches an element, or sets it free; `keep` leaves it where it stands at the frame shown. */
export async function attach(element: Element, to: number | null, keep: boolean) {
  const id = shot.id;
  if (id === null) return;
  const buffer = keep ? await notices.attempt(() => api.staged(id, playback.frame)) : undefined;
  const staged = buffer && decodeFrame(buffer);
  const own = staged?.get(element.id);
  const base = to === null ? undefined : staged?.get(to);
  const label = to === null ? `${element.name} set free` : `${element.name} attached`;
  await shot.edit(label, (document) => {
    const index = document.elements.findIndex((e) => e.id === element.id);
    if (index < 0) return [];
    const at = `/elements/${index}`;
    const operations: Operation[] = [
      { op: "add", path: `${at}/attached`, value: to === null ? null : { to } },
    ];
    if (own && (to === null || base)) {
      const world = matrixOf(own);
      const local = base ? matrixOf(base).invert().multiply(world) : world;
      const { position_m, orientation_rad } = placementOf(local);
      operations.push({ op: "add", path: `${at}/placement`, value: { position_m, orientation_rad } });
    }
    return operations;
  });
}
