// Lights as the Viewport shows them: near to what the renderer will make of them.
import * as THREE from "three";
import type { Element } from "../api/client";
import { matrixOf } from "./bodies";
import type { BodiesOfFrame } from "./frames";

/** Half the width of what the sun's shadows cover, m. */
const REACH = 5;

export function lightOf(element: Element): THREE.Light | undefined {
  const kind = element.kind;
  if ("sun" in kind) {
    const light = new THREE.DirectionalLight(new THREE.Color(...kind.sun.colour), kind.sun.irradiance);
    light.castShadow = true;
    light.shadow.mapSize.set(1024, 1024);
    const edges = { left: -REACH, right: REACH, top: REACH, bottom: -REACH, near: 1, far: 60 };
    Object.assign(light.shadow.camera, edges);
    light.shadow.bias = -0.0008;
    light.shadow.normalBias = 0.02;
    return light;
  }
  if ("area_light" in kind) {
    const { size_m, radiance, colour } = kind.area_light;
    return new THREE.PointLight(new THREE.Color(...colour), radiance * size_m[0] * size_m[1], 0, 2);
  }
  return undefined;
}

/** Puts a light where its element stands; a sun shines on what is looked at. Whether that moved it. */
export function aim(light: THREE.Light, bodies: BodiesOfFrame, centre: THREE.Vector3): boolean {
  const before = light.position.clone();
  const matrix = matrixOf(bodies, 0);
  if (light instanceof THREE.DirectionalLight) {
    const up = new THREE.Vector3(0, 1, 0).transformDirection(matrix);
    light.position.copy(centre).addScaledVector(up, 25);
    light.target.position.copy(centre);
    light.target.updateMatrixWorld();
  } else light.position.setFromMatrixPosition(matrix);
  return !before.equals(light.position);
}
