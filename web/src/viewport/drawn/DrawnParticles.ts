// The particles of an element.
import type * as THREE from "three";
import type { Element } from "../../api/client";
import { particlesOf, solidOf } from "../../state/shot.svelte";
import type { Copied } from "../particleInstances";
import { ParticleCloud } from "../particles";
import type { Drawn, DrawnContext, Manner, Parts } from "./drawn";

/** Distance beside a particle at which it is still picked, as a fraction of the distance to the eye. */
const SLACK = 0.004;

/** Particles are drawn from the frame; only instances need building. */
function keyOf(element: Element) {
  const { source, appearance } = particlesOf(element)!;
  return JSON.stringify([source, appearance?.form]);
}

export class DrawnParticles implements Drawn {
  static draws = (element: Element) => particlesOf(element) !== undefined;

  #key: string;
  #cloud: ParticleCloud;
  /** The inputs of the last drawing. */
  #drawn?: unknown[];
  /** The solids that the particles are instances of; null until loaded. */
  #copied?: (Copied | null)[];
  #disposed = false;

  constructor(
    private context: DrawnContext,
    private element: Element,
  ) {
    this.#key = keyOf(element);
    this.#cloud = new ParticleCloud(element.id);
    context.scene.add(this.#cloud.group);
    const form = particlesOf(element)!.appearance?.form;
    if (!form || typeof form !== "object" || !("instance" in form)) return;
    this.#copied = form.instance.solids.map(() => null);
    form.instance.solids.forEach((id, which) => void this.#buildCopied(id, which));
  }

  update(element: Element): boolean {
    if (keyOf(element) !== this.#key) return false;
    this.element = element;
    return true;
  }

  show({ particles }: Parts, { shown }: Manner) {
    this.#cloud.group.visible = shown && particles !== undefined;
    if (!particles || !shown) return;
    const measured = this.context.measured?.get(this.element.id);
    const judging = { ...this.context.judging(this.element.id), measured };
    const drawn = [particles, this.element, judging.by, judging.every, measured];
    if (drawn.some((part, i) => part !== this.#drawn?.[i])) {
      this.#cloud.show(particles, particlesOf(this.element)!, judging, this.#copied ?? []);
      this.#drawn = drawn;
      if (this.#copied) this.context.shadows();
    }
    this.#cloud.setHeight(this.context.height);
    this.#cloud.setCut(particlesOf(this.element)!.liquid ? this.context.cut : null);
  }

  pick(ray: THREE.Raycaster) {
    return this.#cloud.metBy(ray.ray, SLACK);
  }

  dispose() {
    this.#disposed = true;
    this.context.scene.remove(this.#cloud.group);
    this.#cloud.dispose();
  }

  async #buildCopied(id: number, which: number) {
    const { context } = this;
    const element = context.shot!.elements.find((element) => element.id === id);
    const solid = solidOf(element);
    if (!element || !solid) return;
    context.load(1);
    const geometry = await context.geometries
      .get(context.shotId, context.shot!, element, context.frame)
      .catch(() => null);
    context.load(-1);
    if (!geometry || this.#disposed) return;
    const material = context.looks.get(solid.look ?? {}, (name) => context.asset(name));
    this.#copied![which] = { geometry, material };
    this.#drawn = undefined;
    context.changed();
  }
}
