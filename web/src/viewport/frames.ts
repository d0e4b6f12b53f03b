// A frame as the server sends it: 20 bytes a body, 28 a particle.

/** Bodies of one element. */
export interface BodiesOfFrame {
  /** x, y, z in metres. */
  places: Float32Array;
  /** x, y, z, w × 32767. */
  turns: Int16Array;
  /** Multiples of the element's shape, where they are not all 1. */
  scales?: Float32Array;
}

/** Particles of one element. */
export interface ParticlesOfFrame {
  /** x, y, z in metres. */
  places: Float32Array;
  /** Diameters in metres. */
  sizes: Float32Array;
  /** Numbers in the order of birth. */
  ids: Uint32Array;
  /** Velocity x, y, z in 0.02 m/s, and the share of life × 32767. */
  motions: Int16Array;
  /** x, y, z, w × 32767, where they turn. */
  turns?: Int16Array;
  /** The map's weight where each was born, 0–1. */
  weights?: Float32Array;
}

/** A mesh that changes its shape, against the bodies of its element. */
export interface MeshOfFrame {
  /** Names its faces; see `api.topology`. */
  topology: string;
  /** A frame that has them. */
  frame: number;
  /** x, y, z in metres. */
  places: Float32Array;
  /** How far each vertex is there, 0–1, where not all are. */
  opacities?: Float32Array;
}

/** A part of a frame, as it is asked for. */
export interface FramePart {
  /** Ids of elements that are left out, rising. */
  without: number[];
  /** About so many particles, and vertices of meshes, at most. */
  most: number;
}

/** Bodies by element, and particles and meshes beside them. */
export class ViewportFrame extends Map<number, BodiesOfFrame> {
  particles = new Map<number, ParticlesOfFrame>();
  meshes = new Map<number, MeshOfFrame>();
  /** About one particle of so many is in it. */
  oneParticleOf = 1;
  /** Number of meshes that are coarser than they are. */
  coarseMeshes = 0;

  withoutBodies(): ViewportFrame {
    const rest = new ViewportFrame();
    rest.particles = this.particles;
    rest.meshes = this.meshes;
    this.#tell(rest);
    return rest;
  }

  /** The frame as it is when time goes backwards: what moved one way moves the other. */
  backwards(): ViewportFrame {
    const back = new ViewportFrame(this);
    back.meshes = this.meshes;
    this.#tell(back);
    for (const [id, particles] of this.particles) {
      const motions = particles.motions.map((value, i) => (i % 4 === 3 ? value : -value));
      back.particles.set(id, { ...particles, motions });
    }
    return back;
  }

  /** Tells what was left out of it, of a frame made from it. */
  #tell(of: ViewportFrame) {
    of.oneParticleOf = this.oneParticleOf;
    of.coarseMeshes = this.coarseMeshes;
  }

  /** Bytes it holds. */
  get bytes(): number {
    let bytes = 0;
    for (const { places } of this.values()) bytes += 7 * places.length;
    for (const { ids } of this.particles.values()) bytes += 36 * ids.length;
    for (const { places } of this.meshes.values()) bytes += 4 * places.length;
    return bytes;
  }
}

/** In the head of an element: its number, and whether it has the parts that not all have. */
const MORE = 0x80000000;
const WEIGHTS = 0x40000000;

/** Reads a frame that begins at a byte of a buffer, a multiple of 4. */
export function decodeFrame(buffer: ArrayBuffer, from = 0): ViewportFrame {
  const view = new DataView(buffer, from);
  const frame = new ViewportFrame();
  frame.oneParticleOf = view.getUint32(4, true);
  frame.coarseMeshes = view.getUint32(8, true);
  let at = 12;
  const heads = () => {
    const count = view.getUint32(at, true);
    at += 4;
    return Array.from({ length: count }, () => {
      const [id, packed] = [view.getUint32(at, true), view.getUint32(at + 4, true)];
      at += 8;
      const has = (flag: number) => (packed & flag) !== 0;
      return { id, count: packed & ~(MORE | WEIGHTS), more: has(MORE), weights: has(WEIGHTS) };
    });
  };
  const floats = (length: number) => {
    at += 4 * length;
    return new Float32Array(buffer, from + at - 4 * length, length);
  };
  const words = (length: number) => {
    at += 2 * length;
    return new Int16Array(buffer, from + at - 2 * length, length);
  };
  for (const { id, count, more } of heads()) {
    const bodies: BodiesOfFrame = { places: floats(3 * count), turns: words(4 * count) };
    if (more) bodies.scales = floats(count);
    frame.set(id, bodies);
  }
  for (const { id, count, more, weights } of heads()) {
    const places = floats(3 * count);
    const sizes = floats(count);
    at += 4 * count;
    const ids = new Uint32Array(buffer, from + at - 4 * count, count);
    const particles: ParticlesOfFrame = { places, sizes, ids, motions: words(4 * count) };
    if (more) particles.turns = words(4 * count);
    if (weights) particles.weights = floats(count);
    frame.particles.set(id, particles);
  }
  const meshes = Array.from({ length: view.getUint32(at, true) }, (_, i) => {
    const head = at + 4 + 24 * i;
    const digits = Array.from({ length: 16 }, (_, k) =>
      view
        .getUint8(head + 8 + k)
        .toString(16)
        .padStart(2, "0"),
    );
    const packed = view.getUint32(head + 4, true);
    return {
      id: view.getUint32(head, true),
      count: packed & ~MORE,
      more: (packed & MORE) !== 0,
      topology: digits.join(""),
    };
  });
  at += 4 + 24 * meshes.length;
  const number = view.getUint32(0, true);
  for (const { id, count, more, topology } of meshes) {
    const mesh: MeshOfFrame = { topology, frame: number, places: floats(3 * count) };
    if (more) mesh.opacities = floats(count);
    frame.meshes.set(id, mesh);
  }
  return frame;
}
