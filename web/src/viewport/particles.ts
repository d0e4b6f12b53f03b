// The particles of one element in the scene: spheres, streaks, discs or instances of solids.
import * as THREE from "three";
import type { Schemas } from "../api/client";
import { shown, VELOCITY_STEP, type Judging } from "./appearance";
import type { ParticlesOfFrame } from "./frames";
import { DISC, ParticleInstances, type Copied } from "./particleInstances";
import { material, SPHERE, STREAK } from "./particleMaterials";

type Particles = Schemas["Particles"];

/** Distance along a ray to the first particle, or to one that it passes within the slack. */
export function metBy(ray: THREE.Ray, particles: ParticlesOfFrame, slack: number): number | null {
  const { origin, direction } = ray;
  const { places, sizes } = particles;
  let nearest: number | null = null;
  for (let i = 0; i < sizes.length; i++) {
    const [x, y, z] = [places[3 * i] - origin.x, places[3 * i + 1] - origin.y, places[3 * i + 2] - origin.z];
    const along = x * direction.x + y * direction.y + z * direction.z;
    if (along <= 0 || (nearest !== null && along >= nearest)) continue;
    const reach = Math.max(0.5 * sizes[i], slack * along);
    if (x * x + y * y + z * z - along * along < reach * reach) nearest = along;
  }
  return nearest;
}

/** The particles of one element. */
export class ParticleCloud {
  readonly group = new THREE.Group();
  #spheres: THREE.Points | null = null;
  #streaks: THREE.Mesh | null = null;
  #instances: ParticleInstances;
  #disc: THREE.MeshStandardMaterial | null = null;
  #particles: ParticlesOfFrame | null = null;

  constructor(private element: number) {
    this.#instances = new ParticleInstances(this.group);
  }

  get drawn(): number {
    return this.group.children.reduce((sum, child) => sum + ((child.userData.count as number) ?? 0), 0);
  }

  dispose() {
    this.#instances.clear();
    for (const child of [...this.group.children]) this.#drop(child);
    this.#disc?.dispose();
  }

  #drop(child: THREE.Object3D | null) {
    if (!child) return;
    this.group.remove(child);
    if (child instanceof THREE.Points || child instanceof THREE.Mesh) {
      child.geometry.dispose();
      (child.material as THREE.Material).dispose();
    }
  }

  /** Draws particles; `copied` are the solids for instances, null until loaded. */
  show(particles: ParticlesOfFrame, of: Particles, judging: Judging, copied: (Copied | null)[]) {
    this.#particles = particles;
    const form = of.appearance?.form ?? "sphere";
    const { colours, sizes } = shown(particles, of, this.element, judging);
    const count = sizes.length;
    const streaks = typeof form === "object" && "streak" in form;
    const copies = typeof form === "object" && "instance" in form;
    if (form !== "sphere") this.#drop(this.#spheres);
    if (form !== "sphere") this.#spheres = null;
    if (!streaks) this.#drop(this.#streaks);
    if (!streaks) this.#streaks = null;
    if (!copies && form !== "disc") this.#instances.clear();
    const thin = <T extends Float32Array | Int16Array>(all: T, width: number): T => {
      if (judging.every === 1) return all;
      const out = new (all.constructor as { new (length: number): T })(count * width);
      for (let n = 0; n < count; n++)
        for (let part = 0; part < width; part++)
          out[n * width + part] = all[n * judging.every * width + part];
      return out;
    };
    if (form === "sphere") this.#showSpheres(thin(particles.places, 3), colours, sizes);
    else if (streaks) {
      const heads = thin(particles.places, 3);
      const motions = thin(particles.motions, 4);
      const tails = new Float32Array(heads.length);
      for (let n = 0; n < count; n++)
        for (let part = 0; part < 3; part++)
          tails[3 * n + part] =
            heads[3 * n + part] - motions[4 * n + part] * VELOCITY_STEP * form.streak.duration_s;
      this.#showStreaks(heads, tails, colours, sizes);
    } else if (form === "disc") {
      this.#disc ??= new THREE.MeshStandardMaterial({ side: THREE.DoubleSide });
      const disc = { geometry: DISC, material: this.#disc };
      this.#instances.show(particles, of, judging, colours, sizes, [disc], false);
    } else if (copies)
      this.#instances.show(
        particles,
        of,
        judging,
        colours,
        sizes,
        copied,
        form.instance.orientation === "velocity",
      );
    const look = of.look ?? {};
    const judged = judging.by !== null || judging.measured !== undefined;
    for (const child of this.group.children) {
      const shader = (child as THREE.Mesh).material;
      if (!(shader instanceof THREE.ShaderMaterial)) continue;
      (shader.uniforms.albedo.value as THREE.Vector3).fromArray(
        judged ? [0.9, 0.9, 0.9] : (look.albedo ?? [0.6, 0.6, 0.6]),
      );
      (shader.uniforms.emission.value as THREE.Vector3).fromArray(
        judged ? [0, 0, 0] : (look.emission ?? [0, 0, 0]),
      );
    }
    this.#disc?.color.setRGB(...((look.albedo ?? [0.6, 0.6, 0.6]) as [number, number, number]));
  }

  /** Distance along a ray to the first particle shown. */
  metBy(ray: THREE.Ray, slack: number): number | null {
    return this.group.visible && this.drawn > 0 && this.#particles
      ? metBy(ray, this.#particles, slack)
      : null;
  }

  /** Leaves what lies on the positive side of a plane; null: all. */
  setCut(cut: THREE.Plane | null) {
    for (const child of this.group.children)
      ((child as THREE.Mesh).material as THREE.Material).clippingPlanes = cut && [cut];
  }

  /** Sets the picture's height in pixels: particles are at least a pixel large. */
  setHeight(height: number) {
    for (const child of this.group.children) {
      const shader = (child as THREE.Mesh).material;
      if (shader instanceof THREE.ShaderMaterial) shader.uniforms.height.value = height;
    }
  }

  #showSpheres(places: Float32Array, colours: Float32Array, sizes: Float32Array) {
    if (!this.#spheres) {
      this.#spheres = new THREE.Points(new THREE.BufferGeometry(), material(SPHERE));
      this.#spheres.frustumCulled = false;
      this.group.add(this.#spheres);
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(places, 3));
    geometry.setAttribute("colour", new THREE.BufferAttribute(colours, 3));
    geometry.setAttribute("size", new THREE.BufferAttribute(sizes, 1));
    this.#spheres.geometry.dispose();
    this.#spheres.geometry = geometry;
    this.#spheres.userData.count = sizes.length;
  }

  #showStreaks(heads: Float32Array, tails: Float32Array, colours: Float32Array, sizes: Float32Array) {
    if (!this.#streaks) {
      this.#streaks = new THREE.Mesh(new THREE.InstancedBufferGeometry(), material(STREAK));
      this.#streaks.frustumCulled = false;
      this.group.add(this.#streaks);
    }
    const geometry = new THREE.InstancedBufferGeometry();
    geometry.setAttribute("position", QUAD);
    geometry.setIndex([0, 1, 2, 2, 1, 3]);
    geometry.setAttribute("head", new THREE.InstancedBufferAttribute(heads, 3));
    geometry.setAttribute("tail", new THREE.InstancedBufferAttribute(tails, 3));
    geometry.setAttribute("colour", new THREE.InstancedBufferAttribute(colours, 3));
    geometry.setAttribute("size", new THREE.InstancedBufferAttribute(sizes, 1));
    geometry.instanceCount = sizes.length;
    this.#streaks.geometry.dispose();
    this.#streaks.geometry = geometry;
    this.#streaks.userData.count = sizes.length;
  }
}

const QUAD = new THREE.BufferAttribute(new Float32Array([0, -1, 0, 0, 1, 0, 1, -1, 0, 1, 1, 0]), 3);
