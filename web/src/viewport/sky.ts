// The shot's sky in the Viewport: light, reflection and background.
import * as THREE from "three";
import { api, type Shot } from "../api/client";

/** Ambient light without a sky, so that the Viewport is never black. */
const WITHOUT_SKY = 0.4;

/** A map of radiance, as the server sends it, as a texture. */
export function skyTexture(buffer: ArrayBuffer): THREE.DataTexture {
  // Twice as many texels round as up, of eight bytes.
  const rows = Math.sqrt(buffer.byteLength / 16);
  const texture = new THREE.DataTexture(
    new Uint16Array(buffer),
    2 * rows,
    rows,
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

/** Key of the inputs of a shot's sky; null without one. */
export function skyKey(shot: Shot): string | null {
  const skies = shot.elements.filter((element) => "sky" in element.kind && !element.hidden);
  return skies.length === 0 ? null : JSON.stringify(skies.map(({ kind, placement }) => [kind, placement]));
}

/** Irradiance by the sky over π, of a face that looks straight up and of one that looks down. */
export function upAndDown(texture: THREE.DataTexture): { up: THREE.Color; down: THREE.Color } {
  const { data, width, height } = texture.image;
  const texels = data as Uint16Array;
  const [up, down] = [new THREE.Color(0, 0, 0), new THREE.Color(0, 0, 0)];
  const texel = new THREE.Color();
  for (let row = 0; row < height; row++) {
    const angle = Math.PI * ((row + 0.5) / height - 0.5);
    const share = (2 * Math.abs(Math.sin(angle)) * Math.cos(angle) * Math.PI) / height / width;
    for (let column = 0; column < width; column++) {
      const at = 4 * (row * width + column);
      const [r, g, b] = [0, 1, 2].map((i) => THREE.DataUtils.fromHalfFloat(texels[at + i]));
      (angle > 0 ? up : down).add(texel.setRGB(r, g, b).multiplyScalar(share));
    }
  }
  return { up, down };
}

export class Sky {
  #key: string | null = null;
  #texture: THREE.DataTexture | null = null;
  #ambient = new THREE.HemisphereLight(0xffffff, 0xffffff, WITHOUT_SKY);

  /**
   * `loading` is told +1 as the map begins to load and −1 as it is there, or cannot be. Without
   * `mirrored` the sky lights from above and below only: preparing a mirror image of it takes seconds
   * on a machine that draws without graphics hardware.
   */
  constructor(
    private scene: THREE.Scene,
    private mirrored: boolean,
    private loading: (change: 1 | -1) => void,
    /** Emission that stands for the reflected sky on smooth surfaces, where the sky is not mirrored. */
    private shine: (colour: THREE.Color) => void,
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
    if (this.mirrored) {
      this.scene.environment = texture;
      this.#ambient.intensity = texture ? 0 : WITHOUT_SKY;
      return;
    }
    const { up, down } = texture ? upAndDown(texture) : { up: new THREE.Color(), down: new THREE.Color() };
    this.#ambient.color.copy(up);
    this.#ambient.groundColor.copy(down);
    this.#ambient.intensity = texture ? Math.PI : WITHOUT_SKY;
    this.shine(texture ? up : new THREE.Color(0, 0, 0));
  }

  /** Sets the background: the sky, or `plain` in a working view. */
  background(plain: THREE.Color | null) {
    this.scene.background = plain ?? this.#texture ?? new THREE.Color(0, 0, 0);
  }
}
