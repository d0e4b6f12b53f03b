// Lights as the Stage shows them: near to what the renderer will make of them.
import * as THREE from "three";
import type { Element, Shot, Vector } from "../api/client";
import { matrixOf } from "./bodies";
import type { StageBodies } from "./frames";

/** Half the width of what the sun's shadows cover, m. */
const REACH = 5;

export function lightOf(element: Element): THREE.Light | undefined {
  const is = element.is;
  if ("sun" in is) {
    const light = new THREE.DirectionalLight(new THREE.Color(...is.sun.colour), is.sun.irradiance);
    light.castShadow = true;
    light.shadow.mapSize.set(1024, 1024);
    const edges = { left: -REACH, right: REACH, top: REACH, bottom: -REACH, near: 1, far: 60 };
    Object.assign(light.shadow.camera, edges);
    light.shadow.bias = -0.0008;
    light.shadow.normalBias = 0.02;
    return light;
  }
  if ("area_light" in is) {
    const { size_m, radiance, colour } = is.area_light;
    return new THREE.PointLight(new THREE.Color(...colour), radiance * size_m[0] * size_m[1], 0, 2);
  }
  return undefined;
}

/** Puts a light where its element stands; a sun shines on what is looked at. Whether that moved it. */
export function aim(light: THREE.Light, bodies: StageBodies, centre: THREE.Vector3): boolean {
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

/** Sets the light from all around to the shot's sky, and gives the colour at its horizon. */
export function skyLight(shot: Shot, ambient: THREE.HemisphereLight): THREE.Color {
  const sky = shot.elements.find((element) => "sky" in element.is && !element.hidden);
  const is = sky && "sky" in sky.is ? sky.is.sky : undefined;
  const gradient = is && "gradient" in is.source ? is.source.gradient : undefined;
  const mean = new THREE.Color(0.5, 0.5, 0.5);
  if (gradient) {
    mean.setRGB(...(gradient.horizon as Vector)).lerp(new THREE.Color(...(gradient.zenith as Vector)), 0.5);
    ambient.groundColor.setRGB(...(gradient.ground as Vector));
  }
  ambient.color.copy(mean);
  ambient.intensity = is ? Math.PI * (is.strength ?? 1) : 0.4;
  return gradient
    ? new THREE.Color(...gradient.horizon).multiplyScalar(is?.strength ?? 0)
    : new THREE.Color(0.05, 0.05, 0.06);
}
