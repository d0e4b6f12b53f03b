// The bodies of one element whose shape changes from frame to frame.
import * as THREE from "three";
import { api } from "../api/client";
import type { MeshOfFrame } from "./frames";

/** The faces of a mesh, and which vertices share a normal. */
export interface Topology {
  index: THREE.BufferAttribute;
  /** Group of each vertex; those of a group have one normal. */
  smooth: Uint32Array;
  groups: number;
  uvs: Float32Array | null;
}

/** Reads a topology as the server sends it; see docs/formats.md. */
export function decodeTopology(buffer: ArrayBuffer): Topology {
  const [vertices, faces, hasUvs] = new Uint32Array(buffer, 0, 3);
  const index = new THREE.BufferAttribute(new Uint32Array(buffer, 12, 3 * faces), 1);
  const smooth = new Uint32Array(buffer, 12 + 12 * faces, vertices);
  const groups = smooth.reduce((most, group) => Math.max(most, group + 1), 0);
  const at = 12 + 12 * faces + 4 * vertices;
  return { index, smooth, groups, uvs: hasUvs ? new Float32Array(buffer, at, 2 * vertices) : null };
}

/** Unit normals of the vertices, means of the faces around weighted by area. */
export function normalsOf({ index, smooth, groups }: Topology, places: Float32Array): Float32Array {
  const sums = new Float32Array(3 * groups);
  const faces = index.array;
  for (let f = 0; f < faces.length; f += 3) {
    const a = 3 * faces[f];
    const b = 3 * faces[f + 1];
    const c = 3 * faces[f + 2];
    const ux = places[b] - places[a];
    const uy = places[b + 1] - places[a + 1];
    const uz = places[b + 2] - places[a + 2];
    const vx = places[c] - places[a];
    const vy = places[c + 1] - places[a + 1];
    const vz = places[c + 2] - places[a + 2];
    for (let corner = f; corner < f + 3; corner++) {
      const at = 3 * smooth[faces[corner]];
      sums[at] += uy * vz - uz * vy;
      sums[at + 1] += uz * vx - ux * vz;
      sums[at + 2] += ux * vy - uy * vx;
    }
  }
  for (let at = 0; at < sums.length; at += 3) {
    const square = sums[at] ** 2 + sums[at + 1] ** 2 + sums[at + 2] ** 2;
    const scale = square > 0 ? 1 / Math.sqrt(square) : 0;
    for (let axis = at; axis < at + 3; axis++) sums[axis] *= scale;
  }
  const normals = new Float32Array(places.length);
  for (let v = 0, to = 0; v < smooth.length; v++, to += 3) {
    const at = 3 * smooth[v];
    normals[to] = sums[at];
    normals[to + 1] = sums[at + 1];
    normals[to + 2] = sums[at + 2];
  }
  return normals;
}

/** Size of the cache; the least recently used go first. */
const MOST_KEPT = 16;

/** Topologies from the server, by shot and hash. */
export class Topologies {
  #kept = new Map<string, Promise<Topology>>();
  #loaded = new Map<string, Topology>();

  /** A topology that is loaded. */
  known(shot: number, hash: string): Topology | undefined {
    return this.#loaded.get(`${shot} ${hash}`);
  }

  get(shot: number, mesh: MeshOfFrame): Promise<Topology> {
    const key = `${shot} ${mesh.topology}`;
    let promise = this.#kept.get(key);
    if (!promise) {
      promise = api.topology(shot, mesh.topology, mesh.frame).then(decodeTopology);
      promise.then(
        (topology) => this.#loaded.set(key, topology),
        () => this.#kept.delete(key),
      );
    }
    this.#kept.delete(key);
    this.#kept.set(key, promise);
    for (const old of this.#kept.keys()) {
      if (this.#kept.size <= MOST_KEPT) break;
      this.#kept.delete(old);
      this.#loaded.delete(old);
    }
    return promise;
  }
}

/** The geometry of one element, laid on the mesh of a frame. */
export class DeformingGeometry {
  readonly geometry = new THREE.BufferGeometry();
  #topology: Topology | null = null;
  #shown: MeshOfFrame | null = null;
  #colours: Float32Array | null = null;

  /** Whether the mesh that is shown is that of a frame. */
  shows(mesh: MeshOfFrame): boolean {
    return this.#shown === mesh;
  }

  /** Lays the geometry on a mesh whose faces are loaded. */
  show(mesh: MeshOfFrame, topology: Topology) {
    const { geometry } = this;
    if (this.#topology !== topology) {
      geometry.dispose();
      geometry.setIndex(topology.index);
      geometry.deleteAttribute("uv");
      if (topology.uvs) geometry.setAttribute("uv", new THREE.BufferAttribute(topology.uvs, 2));
      this.#topology = topology;
    }
    const normals = normalsOf(topology, mesh.places);
    this.#put("position", mesh.places);
    this.#put("normal", normals);
    this.#fade(mesh.opacities);
    geometry.computeBoundingSphere();
    geometry.computeBoundingBox();
    this.#shown = mesh;
  }

  /** Colours the vertices; false if there are not as many. Colours of one copy are those of all. */
  colour(colours: Float32Array): boolean {
    const length = this.#shown?.places.length ?? 0;
    if (colours.length === 0 || length % colours.length !== 0) return false;
    if (this.#colours === colours && this.geometry.getAttribute("color")?.count === length / 3) return true;
    const all = new Float32Array(length);
    for (let at = 0; at < length; at += colours.length) all.set(colours, at);
    this.#put("color", all);
    this.#colours = colours;
    return true;
  }

  /** Gives the vertices their opacities, as the fourth part of white colours. */
  #fade(opacities: Float32Array | undefined) {
    if (!opacities) return;
    const colours = new Float32Array(4 * opacities.length).fill(1);
    for (let v = 0; v < opacities.length; v++) colours[4 * v + 3] = opacities[v];
    this.geometry.setAttribute("color", new THREE.BufferAttribute(colours, 4));
    this.#colours = null;
  }

  #put(name: string, values: Float32Array) {
    const attribute = this.geometry.getAttribute(name) as THREE.BufferAttribute | undefined;
    if (attribute?.array.length === values.length) {
      attribute.copyArray(values);
      attribute.needsUpdate = true;
    } else {
      const added = new THREE.BufferAttribute(values.slice(), 3);
      added.setUsage(THREE.DynamicDrawUsage);
      this.geometry.setAttribute(name, added);
    }
  }

  dispose() {
    this.geometry.dispose();
  }
}
