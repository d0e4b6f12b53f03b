// The light of an element.
import * as THREE from "three";
import type { Element } from "../../api/client";
import { aim, lightOf } from "../lights";
import type { Drawn, DrawnContext, Manner, Parts } from "./drawn";

export class DrawnLight implements Drawn {
  static draws = (element: Element) => "sun" in element.kind || "area_light" in element.kind;

  #key: string;
  #light: THREE.Light;

  constructor(
    private context: DrawnContext,
    element: Element,
  ) {
    this.#key = JSON.stringify(element.kind);
    this.#light = lightOf(element)!;
    context.scene.add(this.#light);
    if (this.#light instanceof THREE.DirectionalLight) context.scene.add(this.#light.target);
  }

  update(element: Element): boolean {
    return JSON.stringify(element.kind) === this.#key;
  }

  show({ bodies }: Parts, { target }: Manner) {
    if (aim(this.#light, bodies, target)) this.context.shadows();
  }

  pick() {
    return null;
  }

  dispose() {
    this.context.scene.remove(this.#light);
    if (this.#light instanceof THREE.DirectionalLight) this.context.scene.remove(this.#light.target);
  }
}
