// A frame as the server sends it: 20 bytes a body.

/** Bodies of one element. */
export interface StageBodies {
  /** x, y, z in metres. */
  places: Float32Array;
  /** x, y, z, w × 32767. */
  turns: Int16Array;
}

export type StageFrame = Map<number, StageBodies>;

/** Reads a frame that begins at a byte of a buffer, a multiple of 4. */
export function decodeFrame(buffer: ArrayBuffer, from = 0): StageFrame {
  const view = new DataView(buffer, from);
  const elements = view.getUint32(4, true);
  const frame: StageFrame = new Map();
  let offset = from + 8 + 8 * elements;
  for (let i = 0; i < elements; i++) {
    const id = view.getUint32(8 + 8 * i, true);
    const count = view.getUint32(12 + 8 * i, true);
    const places = new Float32Array(buffer, offset, 3 * count);
    const turns = new Int16Array(buffer, offset + 12 * count, 4 * count);
    frame.set(id, { places, turns });
    offset += 20 * count;
  }
  return frame;
}
