// Looks as the Stage shows them: near to the renderer's, cheap to draw.
import * as THREE from "three";
import type { Schemas } from "../api/client";

export type Look = Schemas["Look"];

/** Materials kept at most. */
const MOST = 300;

export class Looks {
  #materials = new Map<string, THREE.MeshStandardMaterial>();
  #textures = new Map<string, THREE.Texture>();
  #shine = new THREE.Color(0, 0, 0);

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
      });
      if (imageUrl) material.map = this.#texture(imageUrl, look.image_repeat ?? 1);
      material.userData.look = look;
      this.#lighten(material);
      this.#materials.set(key, material);
      this.#bound();
    }
    return material;
  }

  /** Lets smooth surfaces shine a little, as if the sky were mirrored in them. */
  shine(colour: THREE.Color) {
    this.#shine.copy(colour);
    for (const material of this.#materials.values()) this.#lighten(material);
  }

  #lighten(material: THREE.MeshStandardMaterial) {
    const look = material.userData.look as Look;
    const smooth = (1 - (look.roughness ?? 0.5)) ** 2;
    // About what a dielectric mirrors, seen from all sides.
    const share = look.transmission ? 0.1 : 0.35;
    material.emissive
      .setRGB(...((look.emission ?? [0, 0, 0]) as [number, number, number]))
      .add(this.#shine.clone().multiplyScalar(share * smooth));
  }

  /** Looks that change with time leave many behind. */
  #bound() {
    if (this.#materials.size <= MOST) return;
    const [key, material] = this.#materials.entries().next().value!;
    this.#materials.delete(key);
    // One that is still in use is compiled anew when it is drawn.
    material.dispose();
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
