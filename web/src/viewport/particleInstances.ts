// Particles drawn as instances of solids, or as discs.
import * as THREE from "three";
import type { Schemas } from "../api/client";
import { picked, type Judging } from "./appearance";
import type { ParticlesOfFrame } from "./frames";

type Particles = Schemas["Particles"];

/** The geometry that is drawn for each particle, and its material. */
export interface Copied {
  geometry: THREE.BufferGeometry;
  material: THREE.Material;
}

/** The instances of one element's particles, a mesh for each solid that they show. */
export class ParticleInstances {
  #meshes: THREE.InstancedMesh[] = [];

  constructor(private group: THREE.Group) {}

  clear() {
    this.#meshes.forEach((mesh) => this.#drop(mesh));
    this.#meshes = [];
  }

  #drop(mesh: THREE.InstancedMesh) {
    this.group.remove(mesh);
    mesh.dispose();
  }

  show(
    particles: ParticlesOfFrame,
    of: Particles,
    judging: Judging,
    colours: Float32Array,
    sizes: Float32Array,
    copied: (Copied | null)[],
    alongVelocity: boolean,
  ) {
    const lists: number[][] = copied.map(() => []);
    for (let n = 0; n < sizes.length; n++)
      lists[picked(of, copied.length, particles, n * judging.every)]?.push(n);
    copied.forEach((source, which) => {
      let mesh: THREE.InstancedMesh | undefined = this.#meshes[which];
      const list = lists[which];
      const fits = mesh && mesh.geometry === source?.geometry && mesh.instanceMatrix.count >= list.length;
      if (mesh && !fits) this.#drop(mesh);
      if (!source) return;
      if (!fits) {
        // Some room, so that a stream does not make it anew at every frame.
        const room = Math.max(16, Math.ceil(list.length * 1.25));
        mesh = new THREE.InstancedMesh(source.geometry, source.material, room);
        mesh.frustumCulled = false;
        mesh.castShadow = mesh.receiveShadow = true;
        this.#meshes[which] = mesh;
        this.group.add(mesh);
      }
      mesh.material = source.material;
      const box = source.geometry.boundingBox!;
      const longest = Math.max(...box.getSize(new THREE.Vector3()).toArray());
      list.forEach((n, k) => {
        const i = n * judging.every;
        place.fromArray(particles.places, 3 * i);
        if (alongVelocity) towards(particles, i);
        else if (particles.turns) turn.fromArray(particles.turns, 4 * i).normalize();
        else turn.identity();
        matrix.compose(place, turn, scale.setScalar(sizes[n] / longest));
        matrix.toArray(mesh.instanceMatrix.array, 16 * k);
        mesh.setColorAt(k, colour.fromArray(colours, 3 * n));
      });
      mesh.count = list.length;
      mesh.instanceMatrix.needsUpdate = true;
      if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
      mesh.userData.count = list.length;
    });
  }
}

/** A disc of diameter 1 that faces y. */
export const DISC = new THREE.CircleGeometry(0.5, 16).rotateX(-Math.PI / 2);
DISC.computeBoundingBox();
const place = new THREE.Vector3();
const turn = new THREE.Quaternion();
const scale = new THREE.Vector3();
const matrix = new THREE.Matrix4();
const colour = new THREE.Color();
const origin = new THREE.Vector3();
const up = new THREE.Vector3(0, 1, 0);

/** Turns −z the way a particle goes, y up. */
function towards({ motions }: ParticlesOfFrame, i: number) {
  const way = new THREE.Vector3(motions[4 * i], motions[4 * i + 1], motions[4 * i + 2]);
  turn.setFromRotationMatrix(matrix.lookAt(origin, way, up));
}
