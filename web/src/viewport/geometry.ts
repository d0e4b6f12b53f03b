// A cache of meshes from the server, by their inputs.
import * as THREE from "three";
import { api, type Element, type Shot } from "../api/client";
import { countOf, solidOf } from "../state/shot.svelte";

export function decodeMesh(buffer: ArrayBuffer, shaded: boolean): THREE.BufferGeometry {
  const [vertices, triangles] = new Uint32Array(buffer, 0, 2);
  const geometry = new THREE.BufferGeometry();
  let offset = 8;
  const take = (floats: number) => {
    const part = new Float32Array(buffer, offset, floats * vertices);
    offset += 4 * floats * vertices;
    return new THREE.BufferAttribute(part, floats);
  };
  geometry.setAttribute("position", take(3));
  if (shaded) {
    geometry.setAttribute("normal", take(3));
    geometry.setAttribute("uv", take(2));
  }
  geometry.setIndex(new THREE.BufferAttribute(new Uint32Array(buffer, offset, 3 * triangles), 1));
  if (!shaded) geometry.computeVertexNormals();
  geometry.computeBoundingSphere();
  geometry.computeBoundingBox();
  return geometry;
}

/** Size of the cache; the least recently used meshes go first. */
const MOST_KEPT = 400;

export class Geometries {
  #meshes = new Map<string, Promise<THREE.BufferGeometry>>();

  /** The shape as it is in `document`, which is the shot at a frame. */
  get(shotId: number, document: Shot, element: Element, frame: number): Promise<THREE.BufferGeometry> {
    const { shape, uvs } = solidOf(element)!;
    const asset = "mesh" in shape ? document.assets?.[shape.mesh.asset]?.sha256 : "";
    return this.#keep(`mesh ${JSON.stringify([shape, uvs])} ${asset} ${countOf(element)}`, async () =>
      decodeMesh(await api.mesh(shotId, element.id, frame), true),
    );
  }

  collision(shotId: number, document: Shot, element: Element): Promise<THREE.BufferGeometry> {
    const { shape, body } = solidOf(element)!;
    const asset = "mesh" in shape ? document.assets?.[shape.mesh.asset]?.sha256 : "";
    return this.#keep(
      `collision ${JSON.stringify(shape)} ${asset} ${body?.collision} ${body?.moves}`,
      async () => decodeMesh(await api.collision(shotId, element.id), false),
    );
  }

  #keep(key: string, make: () => Promise<THREE.BufferGeometry>): Promise<THREE.BufferGeometry> {
    let promise = this.#meshes.get(key);
    if (!promise) {
      promise = make();
      promise.catch(() => this.#meshes.delete(key));
    }
    // The last in the list is the one used last.
    this.#meshes.delete(key);
    this.#meshes.set(key, promise);
    for (const old of this.#meshes.keys()) {
      if (this.#meshes.size <= MOST_KEPT) break;
      this.#meshes.delete(old);
    }
    return promise;
  }
}
