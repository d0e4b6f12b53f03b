// The shot's sky on the Stage: it lights, is mirrored, and is seen behind all.
import * as THREE from "three";
import { api, type Shot } from "../api/client";

/** Texels of the map across and down. */
const [WIDTH, HEIGHT] = [128, 64];
/** Light from all around where there is no sky, so that the Stage is never black. */
const WITHOUT_SKY = 0.4;

/** A map of radiance, as the server sends it, as a texture. */
export function skyTexture(buffer: ArrayBuffer): THREE.DataTexture {
  const texture = new THREE.DataTexture(
    new Uint16Array(buffer),
    WIDTH,
    HEIGHT,
    THREE.RGBAFormat,
    THREE.HalfFloatType,
    THREE.EquirectangularReflectionMapping,
    THREE.RepeatWrapping,
    THREE.ClampToEdgeWrapping,
    THREE.LinearFilter,
    THREE.LinearFilter,
  );
  texture.needsUpdate = true;
  return texture;
}

/** What the sky of a shot is made from; null where there is none. */
export function skyKey(shot: Shot): string | null {
  const skies = shot.elements.filter((element) => "sky" in element.is && !element.hidden);
  return skies.length === 0 ? null : JSON.stringify(skies.map(({ is, placement }) => [is, placement]));
}

export class Sky {
  #key: string | null = null;
  #texture: THREE.DataTexture | null = null;
  #ambient = new THREE.AmbientLight(0xffffff, WITHOUT_SKY);

  /** `loading` is told +1 as the map begins to load and −1 as it is there, or cannot be. */
  constructor(
    private scene: THREE.Scene,
    private loading: (change: 1 | -1) => void,
  ) {
    scene.add(this.#ambient);
  }

  update(shotId: number, shot: Shot) {
    const sky = skyKey(shot);
    const key = sky && `${shotId} ${sky}`;
    if (key === this.#key) return;
    this.#key = key;
    if (key === null) return this.#show(null);
    this.loading(1);
    void api
      .sky(shotId)
      .then((buffer) => this.#key === key && this.#show(skyTexture(buffer)))
      .catch(() => undefined)
      .finally(() => this.loading(-1));
  }

  #show(texture: THREE.DataTexture | null) {
    this.#texture?.dispose();
    this.#texture = texture;
    this.scene.environment = texture;
    this.#ambient.intensity = texture ? 0 : WITHOUT_SKY;
  }

  /** What is seen behind all: the sky, or in a working view `plain`. */
  background(plain: THREE.Color | null) {
    this.scene.background = plain ?? this.#texture ?? new THREE.Color(0, 0, 0);
  }
}
