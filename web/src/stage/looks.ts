// Looks as the Stage shows them: near to the renderer's, cheap to draw.
import * as THREE from "three";
import type { Schemas } from "../api/client";

export type Look = Schemas["Look"];

export class Looks {
  #materials = new Map<string, THREE.MeshStandardMaterial>();
  #textures = new Map<string, THREE.Texture>();

  /** Told +1 as an image begins to load and −1 as it is there, or cannot be. */
  constructor(private loading: (change: 1 | -1) => void) {}

  get(look: Look, imageUrl: string | undefined): THREE.MeshStandardMaterial {
    const key = JSON.stringify([look, imageUrl]);
    let material = this.#materials.get(key);
    if (!material) {
      const [r, g, b] = look.albedo ?? [0.6, 0.6, 0.6];
      const through = look.transmission ?? 0;
      material = new THREE.MeshStandardMaterial({
        color: new THREE.Color(r, g, b),
        roughness: Math.max(0.08, look.roughness ?? 0.5),
        metalness: 0.7 * (look.metalness ?? 0),
        transparent: through > 0,
        opacity: 1 - 0.45 * through,
        emissive: new THREE.Color(...(look.emission ?? [0, 0, 0])),
      });
      if (imageUrl) material.map = this.#texture(imageUrl, look.image_repeat ?? 1);
      this.#materials.set(key, material);
    }
    return material;
  }

  #texture(url: string, repeat: number): THREE.Texture {
    const key = `${url} ${repeat}`;
    let texture = this.#textures.get(key);
    if (!texture) {
      const ended = () => this.loading(-1);
      this.loading(1);
      texture = new THREE.TextureLoader().load(url, ended, undefined, ended);
      texture.colorSpace = THREE.SRGBColorSpace;
      texture.wrapS = texture.wrapT = THREE.RepeatWrapping;
      texture.repeat.set(repeat, repeat);
      this.#textures.set(key, texture);
    }
    return texture;
  }
}
