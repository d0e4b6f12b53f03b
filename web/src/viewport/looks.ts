// Looks as the Viewport shows them: near to the renderer's, cheap to draw.
import * as THREE from "three";
import type { Schemas } from "../api/client";

export type Look = Schemas["Look"];

/** Whether a surface is there far enough to cast a shadow: a shadow on the Viewport is whole or none. */
export const castsShadow = (look: Look | undefined) => (look?.opacity ?? 1) > 0.5;

/** Materials kept at most. */
const MOST = 300;

/** Squares of a sixteenth of the UVs, warmer to the right and lighter upwards, so that one sees where a place lies. */
function checkerTexture(): THREE.Texture {
  const side = 16;
  const pixels = new Uint8Array(4 * side * side);
  for (let y = 0; y < side; y++) {
    for (let x = 0; x < side; x++) {
      const light = ((x + y) % 2 ? 0.42 : 0.86) * (0.75 + (0.25 * y) / (side - 1));
      const warm = x / (side - 1);
      const rgb = [0.72 + 0.28 * warm, 0.9, 1 - 0.35 * warm].map((v) => Math.round(255 * v * light));
      pixels.set([...rgb, 255], 4 * (y * side + x));
    }
  }
  const texture = new THREE.DataTexture(pixels, side, side);
  texture.wrapS = texture.wrapT = THREE.RepeatWrapping;
  texture.colorSpace = THREE.SRGBColorSpace;
  texture.needsUpdate = true;
  return texture;
}

export class Looks {
  #materials = new Map<string, THREE.MeshStandardMaterial>();
  #textures = new Map<string, THREE.Texture>();
  #shine = new THREE.Color(0, 0, 0);

  /** The material of what is coloured by its vertices. */
  readonly measured = new THREE.MeshLambertMaterial({ vertexColors: true, side: THREE.DoubleSide });

  /** The material of what shows how its UVs lie. */
  get checker(): THREE.MeshLambertMaterial {
    return (this.#checker ??= new THREE.MeshLambertMaterial({
      map: checkerTexture(),
      side: THREE.DoubleSide,
    }));
  }
  #checker?: THREE.MeshLambertMaterial;

  /** Told +1 as an image begins to load and −1 as it is there, or cannot be. */
  constructor(private loading: (change: 1 | -1) => void) {}

  /** The material of a look, whose images lie where `urlOf` says. */
  get(look: Look, urlOf: (image: string) => string): THREE.MeshStandardMaterial {
    const key = JSON.stringify([look, urlOf("")]);
    let material = this.#materials.get(key);
    if (!material) {
      const [r, g, b] = look.albedo ?? [0.6, 0.6, 0.6];
      const through = look.transmission ?? 0;
      material = new THREE.MeshStandardMaterial({
        color: new THREE.Color(r, g, b),
        roughness: Math.max(0.08, look.roughness ?? 0.5),
        metalness: 0.7 * (look.metalness ?? 0),
        transparent: through > 0 || (look.opacity ?? 1) < 1,
        opacity: (1 - 0.45 * through) * (look.opacity ?? 1),
      });
      const texture = (image: string | null | undefined, space: string) =>
        image ? this.#texture(urlOf(image), look.image_repeat ?? 1, space) : null;
      material.map = texture(look.image, THREE.SRGBColorSpace);
      material.roughnessMap = texture(look.roughness_image, THREE.NoColorSpace);
      material.metalnessMap = texture(look.metalness_image, THREE.NoColorSpace);
      material.emissiveMap = texture(look.emission_image, THREE.SRGBColorSpace);
      material.normalMap = texture(look.normal_image, THREE.NoColorSpace);
      material.normalScale.setScalar(look.normal_strength ?? 1);
      material.userData.look = look;
      this.#lighten(material);
      this.#materials.set(key, material);
      this.#bound();
    }
    return material;
  }

  #fading = new WeakMap<THREE.Material, THREE.Material>();

  /** A material whose vertices have opacities of their own. */
  fading(material: THREE.Material): THREE.Material {
    let made = this.#fading.get(material);
    if (!made) {
      made = material.clone();
      Object.assign(made, { transparent: true, vertexColors: true });
      this.#fading.set(material, made);
    }
    return made;
  }

  #seeThrough = new WeakMap<THREE.Material, THREE.Material>();

  /** A material through which one sees what is behind and within. */
  seeThrough(material: THREE.Material): THREE.Material {
    let made = this.#seeThrough.get(material);
    if (!made) {
      made = material.clone();
      Object.assign(made, { transparent: true, opacity: 0.22, depthWrite: false, side: THREE.DoubleSide });
      this.#seeThrough.set(material, made);
    }
    return made;
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
    material.emissive.setRGB(...((look.emission ?? [0, 0, 0]) as [number, number, number]));
    if (!look.emission_image) material.emissive.add(this.#shine.clone().multiplyScalar(share * smooth));
  }

  /** Looks that change with time leave many behind. */
  #bound() {
    if (this.#materials.size <= MOST) return;
    const [key, material] = this.#materials.entries().next().value!;
    this.#materials.delete(key);
    // One that is still in use is compiled anew when it is drawn.
    material.dispose();
  }

  #texture(url: string, repeat: number, space: string): THREE.Texture {
    const key = `${url} ${repeat} ${space}`;
    let texture = this.#textures.get(key);
    if (!texture) {
      const ended = () => this.loading(-1);
      this.loading(1);
      texture = new THREE.TextureLoader().load(url, ended, undefined, ended);
      texture.colorSpace = space;
      texture.wrapS = texture.wrapT = THREE.RepeatWrapping;
      texture.repeat.set(repeat, repeat);
      this.#textures.set(key, texture);
    }
    return texture;
  }
}
