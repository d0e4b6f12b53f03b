// The surface of a liquid, where a finishing step has made a mesh of its particles.
import * as THREE from "three";
import type { Element } from "../../api/client";
import { particlesOf } from "../../state/shot.svelte";
import { DeformingGeometry } from "../deforming";
import { castsShadow } from "../looks";
import { distanceTo, type Drawn, type DrawnContext, type Manner, type Parts } from "./drawn";

const keyOf = (element: Element) => JSON.stringify(particlesOf(element)!.look);

export class DrawnLiquid implements Drawn {
  static draws = (element: Element) => particlesOf(element) !== undefined;

  #key: string;
  #mesh?: THREE.Mesh;
  #material?: THREE.Material;
  #fades = false;
  #cut: THREE.Plane | null = null;
  /** The material of a surface that is cut. */
  #opened?: THREE.Material;
  #deforming = new DeformingGeometry();

  constructor(
    private context: DrawnContext,
    private element: Element,
  ) {
    this.#key = keyOf(element);
  }

  update(element: Element): boolean {
    if (keyOf(element) !== this.#key) return false;
    this.element = element;
    return true;
  }

  show({ mesh: surface }: Parts, { shown }: Manner) {
    if (this.#mesh && this.#mesh.visible !== (shown && surface !== undefined)) this.context.shadows();
    if (this.#mesh) this.#mesh.visible = shown && surface !== undefined;
    this.#setCut();
    if (!surface || !shown || (this.#mesh && this.#deforming.shows(surface))) return;
    const { context } = this;
    const topology = context.topologies.known(context.shotId, surface.topology);
    if (topology) {
      this.#deforming.show(surface, topology);
      this.#mesh ??= this.#build();
      this.#fades = surface.opacities !== undefined;
      this.#dress();
      context.shadows();
      return;
    }
    context.load(1);
    const loaded = () => {
      context.load(-1);
      context.changed();
    };
    context.topologies.get(context.shotId, surface).then(loaded, loaded);
  }

  pick(ray: THREE.Raycaster) {
    return distanceTo(ray, this.#mesh);
  }

  dispose() {
    this.#deforming.dispose();
    this.#opened?.dispose();
    if (this.#mesh) this.context.scene.remove(this.#mesh);
  }

  /** Takes over the plane that cuts liquids. */
  #setCut() {
    const { cut } = this.context;
    if (cut === this.#cut) return;
    this.#cut = cut;
    if (this.#mesh) this.#dress();
  }

  #dress() {
    const { looks } = this.context;
    const whole = this.#fades ? looks.fading(this.#material!) : this.#material!;
    this.#opened?.dispose();
    this.#opened = this.#cut ? whole.clone() : undefined;
    // Others of this look are not cut; where it is open, its inside is seen.
    if (this.#opened) Object.assign(this.#opened, { clippingPlanes: [this.#cut], side: THREE.DoubleSide });
    this.#mesh!.material = this.#opened ?? whole;
  }

  #build(): THREE.Mesh {
    const { context } = this;
    const look = particlesOf(this.element)!.look ?? {};
    this.#material = context.looks.get(look, (name) => context.asset(name));
    const mesh = new THREE.Mesh(this.#deforming.geometry, this.#material);
    mesh.castShadow = castsShadow(look);
    mesh.receiveShadow = true;
    mesh.frustumCulled = false;
    context.scene.add(mesh);
    return mesh;
  }
}
