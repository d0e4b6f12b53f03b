// The particles of one element in the scene: dots, streaks, discs or copies of solids.
import * as THREE from "three";
import type { Schemas } from "../api/client";
import type { ParticlesOfFrame } from "./frames";

type Particles = Schemas["Particles"];
type Show = Schemas["Show"];

/** What the Viewport shows of particles beside their look. */
export interface Judging {
  /** What their colour tells; null: their look. */
  by: "age" | "speed" | "element" | null;
  /** Every so many are drawn. */
  every: number;
}

/** Speed that counts as fast when speed is judged, m/s. */
const FAST = 8;
/** Steps of a colour or size along life or speed. */
const STEPS = 128;
/** Velocities come in steps of so much, m/s. */
const VELOCITY_STEP = 0.02;

/** A number in 0–1 that is a particle's own, as the core has it. */
export function ownRandom(seed: number, id: number): number {
  const pcg = (v: number) => {
    const state = (Math.imul(v, 747796405) + 2891336453) >>> 0;
    const word = Math.imul(((state >>> ((state >>> 28) + 4)) ^ state) >>> 0, 277803737) >>> 0;
    return ((word >>> 22) ^ word) >>> 0;
  };
  return pcg((pcg((pcg(seed) ^ id) >>> 0) ^ 0x51) >>> 0) / 0xffffffff;
}

/** Values at even shares, linear between stops; the blank one without stops. */
function ramp(stops: { at: number; value: number[] }[], blank: number[]): Float32Array {
  const width = blank.length;
  const out = new Float32Array((STEPS + 1) * width);
  for (let i = 0; i <= STEPS; i++) {
    const at = i / STEPS;
    const next = stops.findIndex((stop) => stop.at > at);
    const [a, b] =
      stops.length === 0
        ? [null, null]
        : next === -1
          ? [stops[stops.length - 1], null]
          : next === 0
            ? [stops[0], null]
            : [stops[next - 1], stops[next]];
    for (let part = 0; part < width; part++) {
      const from = a?.value[part] ?? blank[part];
      const share = a && b ? (at - a.at) / Math.max(1e-9, b.at - a.at) : 0;
      out[i * width + part] = b ? from + (b.value[part] - from) * share : from;
    }
  }
  return out;
}

type Share = (i: number) => number;

/** The share, 0–1, that decides a colour or a size. */
function shareBy(by: Show["colour_by"], particles: ParticlesOfFrame, seed: number): Share {
  if (by === "life") return (i) => Math.max(0, particles.motions[4 * i + 3] / 32767);
  if (by === "random") return (i) => ownRandom(seed, particles.ids[i]);
  if (by === "map") return (i) => particles.weights?.[i] ?? 1;
  if (by && typeof by === "object") {
    const most = by.speed.most_m_s;
    return (i) => Math.min(1, speedOf(particles, i) / most);
  }
  return () => 0;
}

export function speedOf({ motions }: ParticlesOfFrame, i: number): number {
  return VELOCITY_STEP * Math.hypot(motions[4 * i], motions[4 * i + 1], motions[4 * i + 2]);
}

/** From blue over aqua and lime to red, for what is judged. */
const SCALE = ramp(
  [
    { at: 0, value: [0.06, 0.13, 0.5] },
    { at: 0.35, value: [0.05, 0.5, 0.5] },
    { at: 0.65, value: [0.6, 0.85, 0.15] },
    { at: 1, value: [0.9, 0.16, 0.05] },
  ],
  [1, 1, 1],
);

/** Colours of the drawn particles, three numbers each, and shares of their sizes. */
export function shown(
  particles: ParticlesOfFrame,
  of: Particles,
  element: number,
  judging: Judging,
): { colours: Float32Array; sizes: Float32Array } {
  const count = Math.ceil(particles.ids.length / judging.every);
  const colours = new Float32Array(3 * count);
  const sizes = new Float32Array(count);
  const show = of.show ?? {};
  const seed = of.seed ?? 0;
  const table = judging.by
    ? SCALE
    : ramp(
        (show.colours ?? []).map(({ at, colour }) => ({ at, value: colour })),
        [1, 1, 1],
      );
  const share: Share =
    judging.by === "age"
      ? shareBy("life", particles, seed)
      : judging.by === "speed"
        ? (i) => Math.min(1, speedOf(particles, i) / FAST)
        : judging.by === "element"
          ? () => (0.618034 * element) % 1
          : shareBy(show.colour_by, particles, seed);
  const sizeTable = ramp(
    (show.sizes ?? []).map(({ at, size }) => ({ at, value: [size] })),
    [1],
  );
  const sizeShare = shareBy(show.size_by, particles, seed);
  for (let n = 0; n < count; n++) {
    const i = n * judging.every;
    const at = 3 * Math.round(STEPS * share(i));
    for (let part = 0; part < 3; part++) colours[3 * n + part] = table[at + part];
    sizes[n] = particles.sizes[i] * sizeTable[Math.round(STEPS * sizeShare(i))];
  }
  return { colours, sizes };
}

/** Which of several copies a particle shows. */
export function picked(of: Particles, count: number, particles: ParticlesOfFrame, i: number): number {
  const form = of.show?.form;
  const pick = form && typeof form === "object" && "copy" in form ? form.copy.pick : "random";
  const at = (fraction: number) => Math.min(count - 1, Math.max(0, Math.floor(fraction * count)));
  if (pick === "order") return particles.ids[i] % count;
  if (pick === "size") {
    const { size_m = 0.02, size_variation = 0 } = of.start ?? {};
    const share = (particles.sizes[i] / size_m - (1 - size_variation)) / (2 * size_variation || 1);
    return at(size_variation > 0 ? share : 0);
  }
  return at(ownRandom(of.seed ?? 0, particles.ids[i]));
}

/** How far along a ray it meets the first particle; one is met a little beside it too. */
export function metBy(ray: THREE.Ray, particles: ParticlesOfFrame, slack: number): number | null {
  const { origin, direction } = ray;
  const { places, sizes } = particles;
  let nearest: number | null = null;
  for (let i = 0; i < sizes.length; i++) {
    const [x, y, z] = [places[3 * i] - origin.x, places[3 * i + 1] - origin.y, places[3 * i + 2] - origin.z];
    const along = x * direction.x + y * direction.y + z * direction.z;
    if (along <= 0 || (nearest !== null && along >= nearest)) continue;
    const reach = Math.max(0.5 * sizes[i], slack * along);
    if (x * x + y * y + z * z - along * along < reach * reach) nearest = along;
  }
  return nearest;
}

const LIGHT = /* glsl */ `
  uniform vec3 albedo;
  uniform vec3 emission;
  varying vec3 tone;
  vec3 lit(vec3 normal) {
    float sky = 0.62 + 0.38 * dot(normal, normalize((viewMatrix * vec4(0.25, 1.0, 0.35, 0.0)).xyz));
    return tone * (albedo * sky + emission);
  }`;
const OUT = /* glsl */ `
    #include <tonemapping_fragment>
    #include <colorspace_fragment>`;

/** Round dots that face the eye. */
const DOT = {
  vertexShader: /* glsl */ `
    attribute vec3 colour;
    attribute float size;
    uniform float height;
    varying vec3 tone;
    void main() {
      tone = colour;
      vec4 at = modelViewMatrix * vec4(position, 1.0);
      gl_Position = projectionMatrix * at;
      gl_PointSize = max(1.5, size * height * 0.5 * projectionMatrix[1][1] / -at.z);
    }`,
  fragmentShader: /* glsl */ `${LIGHT}
    void main() {
      vec2 p = vec2(gl_PointCoord.x, 1.0 - gl_PointCoord.y) * 2.0 - 1.0;
      float square = dot(p, p);
      if (square > 1.0) discard;
      gl_FragColor = vec4(lit(vec3(p, sqrt(1.0 - square))), 1.0);${OUT}
    }`,
};

/** Lines with round ends, as thick as the particle. */
const STREAK = {
  vertexShader: /* glsl */ `
    attribute vec3 head;
    attribute vec3 tail;
    attribute vec3 colour;
    attribute float size;
    uniform float height;
    varying vec3 tone;
    varying vec2 at;
    varying float reach;
    void main() {
      tone = colour;
      vec4 a = modelViewMatrix * vec4(tail, 1.0);
      vec4 b = modelViewMatrix * vec4(head, 1.0);
      float pixel = -b.z / (height * 0.5 * projectionMatrix[1][1]);
      float radius = max(0.5 * size, 0.75 * pixel);
      vec2 way = b.xy - a.xy;
      float length2 = length(way);
      vec2 along = length2 > 1e-9 ? way / length2 : vec2(1.0, 0.0);
      vec2 across = vec2(-along.y, along.x);
      float s = position.x;
      vec4 mid = mix(a, b, s);
      mid.xy += along * (s * 2.0 - 1.0) * radius + across * position.y * radius;
      reach = length2 / radius;
      at = vec2(mix(-1.0, reach + 1.0, s), position.y);
      gl_Position = projectionMatrix * mid;
    }`,
  fragmentShader: /* glsl */ `${LIGHT}
    varying vec2 at;
    varying float reach;
    void main() {
      float x = at.x - clamp(at.x, 0.0, reach);
      float square = x * x + at.y * at.y;
      if (square > 1.0) discard;
      gl_FragColor = vec4(lit(vec3(0.0, at.y, sqrt(1.0 - square))), 1.0);${OUT}
    }`,
};

function material(code: typeof DOT): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    ...code,
    side: THREE.DoubleSide,
    uniforms: {
      albedo: { value: new THREE.Vector3(0.6, 0.6, 0.6) },
      emission: { value: new THREE.Vector3() },
      height: { value: 600 },
    },
  });
}

/** A source of copies: what is drawn, and its longest side. */
export interface Copied {
  geometry: THREE.BufferGeometry;
  material: THREE.Material;
}

/** The particles of one element. */
export class ParticleCloud {
  readonly group = new THREE.Group();
  #dots: THREE.Points | null = null;
  #streaks: THREE.Mesh | null = null;
  #copies: THREE.InstancedMesh[] = [];
  #disc: THREE.MeshStandardMaterial | null = null;
  #particles: ParticlesOfFrame | null = null;

  constructor(private element: number) {}

  get drawn(): number {
    return this.group.children.reduce((sum, child) => sum + ((child.userData.count as number) ?? 0), 0);
  }

  dispose() {
    for (const child of [...this.group.children]) this.#drop(child);
    this.#disc?.dispose();
  }

  #drop(child: THREE.Object3D | null) {
    if (!child) return;
    this.group.remove(child);
    if (child instanceof THREE.InstancedMesh) child.dispose();
    else if (child instanceof THREE.Points || child instanceof THREE.Mesh) {
      child.geometry.dispose();
      (child.material as THREE.Material).dispose();
    }
  }

  /** Draws particles; `copied` are the solids that copies are of, as they have come so far. */
  show(particles: ParticlesOfFrame, of: Particles, judging: Judging, copied: (Copied | null)[]) {
    this.#particles = particles;
    const form = of.show?.form ?? "dot";
    const { colours, sizes } = shown(particles, of, this.element, judging);
    const count = sizes.length;
    const streaks = typeof form === "object" && "streak" in form;
    const copies = typeof form === "object" && "copy" in form;
    if (form !== "dot") this.#drop(this.#dots);
    if (form !== "dot") this.#dots = null;
    if (!streaks) this.#drop(this.#streaks);
    if (!streaks) this.#streaks = null;
    if (!copies && form !== "disc") {
      this.#copies.forEach((mesh) => this.#drop(mesh));
      this.#copies = [];
    }
    const thin = <T extends Float32Array | Int16Array>(all: T, width: number): T => {
      if (judging.every === 1) return all;
      const out = new (all.constructor as { new (length: number): T })(count * width);
      for (let n = 0; n < count; n++)
        for (let part = 0; part < width; part++)
          out[n * width + part] = all[n * judging.every * width + part];
      return out;
    };
    if (form === "dot") this.#showDots(thin(particles.places, 3), colours, sizes);
    else if (streaks) {
      const heads = thin(particles.places, 3);
      const motions = thin(particles.motions, 4);
      const tails = new Float32Array(heads.length);
      for (let n = 0; n < count; n++)
        for (let part = 0; part < 3; part++)
          tails[3 * n + part] =
            heads[3 * n + part] - motions[4 * n + part] * VELOCITY_STEP * form.streak.seconds;
      this.#showStreaks(heads, tails, colours, sizes);
    } else if (form === "disc") {
      this.#disc ??= new THREE.MeshStandardMaterial({ side: THREE.DoubleSide });
      const disc = { geometry: DISC, material: this.#disc };
      this.#showCopies(particles, of, judging, colours, sizes, [disc], false);
    } else if (copies)
      this.#showCopies(particles, of, judging, colours, sizes, copied, form.copy.turned === "along");
    const look = of.look ?? {};
    const judged = judging.by !== null;
    for (const child of this.group.children) {
      const shader = (child as THREE.Mesh).material;
      if (!(shader instanceof THREE.ShaderMaterial)) continue;
      (shader.uniforms.albedo.value as THREE.Vector3).fromArray(
        judged ? [0.9, 0.9, 0.9] : (look.albedo ?? [0.6, 0.6, 0.6]),
      );
      (shader.uniforms.emission.value as THREE.Vector3).fromArray(
        judged ? [0, 0, 0] : (look.emission ?? [0, 0, 0]),
      );
    }
    this.#disc?.color.setRGB(...((look.albedo ?? [0.6, 0.6, 0.6]) as [number, number, number]));
  }

  /** How far along a ray it meets one of them, as they are shown. */
  metBy(ray: THREE.Ray, slack: number): number | null {
    return this.group.visible && this.drawn > 0 && this.#particles
      ? metBy(ray, this.#particles, slack)
      : null;
  }

  /** The picture's height in pixels, for sizes that are at least a pixel. */
  setHeight(height: number) {
    for (const child of this.group.children) {
      const shader = (child as THREE.Mesh).material;
      if (shader instanceof THREE.ShaderMaterial) shader.uniforms.height.value = height;
    }
  }

  #showDots(places: Float32Array, colours: Float32Array, sizes: Float32Array) {
    if (!this.#dots) {
      this.#dots = new THREE.Points(new THREE.BufferGeometry(), material(DOT));
      this.#dots.frustumCulled = false;
      this.group.add(this.#dots);
    }
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(places, 3));
    geometry.setAttribute("colour", new THREE.BufferAttribute(colours, 3));
    geometry.setAttribute("size", new THREE.BufferAttribute(sizes, 1));
    this.#dots.geometry.dispose();
    this.#dots.geometry = geometry;
    this.#dots.userData.count = sizes.length;
  }

  #showStreaks(heads: Float32Array, tails: Float32Array, colours: Float32Array, sizes: Float32Array) {
    if (!this.#streaks) {
      this.#streaks = new THREE.Mesh(new THREE.InstancedBufferGeometry(), material(STREAK));
      this.#streaks.frustumCulled = false;
      this.group.add(this.#streaks);
    }
    const geometry = new THREE.InstancedBufferGeometry();
    geometry.setAttribute("position", QUAD);
    geometry.setIndex([0, 1, 2, 2, 1, 3]);
    geometry.setAttribute("head", new THREE.InstancedBufferAttribute(heads, 3));
    geometry.setAttribute("tail", new THREE.InstancedBufferAttribute(tails, 3));
    geometry.setAttribute("colour", new THREE.InstancedBufferAttribute(colours, 3));
    geometry.setAttribute("size", new THREE.InstancedBufferAttribute(sizes, 1));
    geometry.instanceCount = sizes.length;
    this.#streaks.geometry.dispose();
    this.#streaks.geometry = geometry;
    this.#streaks.userData.count = sizes.length;
  }

  #showCopies(
    particles: ParticlesOfFrame,
    of: Particles,
    judging: Judging,
    colours: Float32Array,
    sizes: Float32Array,
    copied: (Copied | null)[],
    along: boolean,
  ) {
    const lists: number[][] = copied.map(() => []);
    for (let n = 0; n < sizes.length; n++)
      lists[picked(of, copied.length, particles, n * judging.every)]?.push(n);
    copied.forEach((source, which) => {
      let mesh: THREE.InstancedMesh | undefined = this.#copies[which];
      const list = lists[which];
      const fits = mesh && mesh.geometry === source?.geometry && mesh.instanceMatrix.count >= list.length;
      if (mesh && !fits) this.#drop(mesh);
      if (!source) return;
      if (!fits) {
        // Some room, so that a stream does not make it anew at every frame.
        const room = Math.max(16, Math.ceil(list.length * 1.25));
        mesh = new THREE.InstancedMesh(source.geometry, source.material, room);
        mesh.frustumCulled = false;
        mesh.castShadow = mesh.receiveShadow = true;
        this.#copies[which] = mesh;
        this.group.add(mesh);
      }
      mesh.material = source.material;
      const box = source.geometry.boundingBox!;
      const longest = Math.max(...box.getSize(new THREE.Vector3()).toArray());
      list.forEach((n, k) => {
        const i = n * judging.every;
        place.fromArray(particles.places, 3 * i);
        if (along) towards(particles, i);
        else if (particles.turns) turn.fromArray(particles.turns, 4 * i).normalize();
        else turn.identity();
        matrix.compose(place, turn, scale.setScalar(sizes[n] / longest));
        matrix.toArray(mesh.instanceMatrix.array, 16 * k);
        mesh.setColorAt(k, colour.fromArray(colours, 3 * n));
      });
      mesh.count = list.length;
      mesh.instanceMatrix.needsUpdate = true;
      if (mesh.instanceColor) mesh.instanceColor.needsUpdate = true;
      mesh.userData.count = list.length;
    });
  }
}

const QUAD = new THREE.BufferAttribute(new Float32Array([0, -1, 0, 0, 1, 0, 1, -1, 0, 1, 1, 0]), 3);
/** A disc of diameter 1 that faces y. */
const DISC = new THREE.CircleGeometry(0.5, 16).rotateX(-Math.PI / 2);
DISC.computeBoundingBox();
const place = new THREE.Vector3();
const turn = new THREE.Quaternion();
const scale = new THREE.Vector3();
const matrix = new THREE.Matrix4();
const colour = new THREE.Color();
const origin = new THREE.Vector3();
const up = new THREE.Vector3(0, 1, 0);

/** Turns −z the way a particle goes, y up. */
function towards({ motions }: ParticlesOfFrame, i: number) {
  const way = new THREE.Vector3(motions[4 * i], motions[4 * i + 1], motions[4 * i + 2]);
  turn.setFromRotationMatrix(matrix.lookAt(origin, way, up));
}
