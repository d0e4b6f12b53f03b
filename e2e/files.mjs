// Small files to be taken in, made here.
import { mkdirSync, readFileSync, writeFileSync } from "node:fs";
import { dirname, join } from "node:path";

/** A four-sided wedge of 1 × 1 × 1 m. */
export const wedge = `v 0 0 0
v 1 0 0
v 0 1 0
v 0 0 1
vt 0 0
vt 1 0
vt 0 1
f 1/1 3/3 2/2
f 1/1 2/2 4/3
f 1/1 4/2 3/3
f 2/1 3/2 4/3
`;

/** Two rings and a rope with two looks, compressed. */
export const floatsGlb = () =>
  readFileSync(new URL("../crates/interchange/tests/files/floats-draco.glb", import.meta.url));

/** The same wedge as a binary glTF file. */
export function wedgeGlb() {
  const positions = new Float32Array([0, 0, 0, 1, 0, 0, 0, 1, 0, 0, 0, 1]);
  const indices = new Uint16Array([0, 2, 1, 0, 1, 3, 0, 3, 2, 1, 2, 3]);
  const bytes = Buffer.concat([Buffer.from(positions.buffer), Buffer.from(indices.buffer)]);
  const document = {
    asset: { version: "2.0" },
    scene: 0,
    scenes: [{ nodes: [0] }],
    nodes: [{ mesh: 0 }],
    meshes: [{ primitives: [{ attributes: { POSITION: 0 }, indices: 1 }] }],
    accessors: [
      { bufferView: 0, componentType: 5126, count: 4, type: "VEC3", min: [0, 0, 0], max: [1, 1, 1] },
      { bufferView: 1, componentType: 5123, count: 12, type: "SCALAR" },
    ],
    bufferViews: [
      { buffer: 0, byteOffset: 0, byteLength: positions.byteLength },
      { buffer: 0, byteOffset: positions.byteLength, byteLength: indices.byteLength },
    ],
    buffers: [{ byteLength: bytes.length }],
  };
  const chunk = (kind, data, fill) => {
    const padded = Buffer.concat([data, Buffer.alloc((4 - (data.length % 4)) % 4, fill)]);
    const head = Buffer.alloc(8);
    head.writeUInt32LE(padded.length, 0);
    head.write(kind, 4, "latin1");
    return Buffer.concat([head, padded]);
  };
  const body = Buffer.concat([
    chunk("JSON", Buffer.from(JSON.stringify(document)), 0x20),
    chunk("BIN\0", bytes, 0),
  ]);
  const head = Buffer.alloc(12);
  head.write("glTF", 0, "latin1");
  head.writeUInt32LE(2, 4);
  head.writeUInt32LE(12 + body.length, 8);
  return Buffer.concat([head, body]);
}

/** A Radiance image, 8 × 4, of one colour: mantissas and a shared exponent. */
export function hdr(rgbe = [128, 64, 32, 130]) {
  const rows = Buffer.concat(Array.from({ length: 32 }, () => Buffer.from(rgbe)));
  return Buffer.concat([Buffer.from("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 4 +X 8\n"), rows]);
}

/** A red PNG of one pixel. */
export const png = Buffer.from(
  "iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAIAAACQd1PeAAAADElEQVR4nGP4z8AAAAMBAQDJ/pLvAAAAAElFTkSuQmCC",
  "base64",
);

/** Writes a file into a test's own folder. */
export function put(info, name, content) {
  const path = join(info.outputDir, name);
  mkdirSync(dirname(path), { recursive: true });
  writeFileSync(path, content);
  return path;
}

/** Drops a file into the Viewport. */
export async function dropIntoViewport(page, name, content, x = 0.5, y = 0.7) {
  const stage = page.getByRole("region", { name: "Viewport" });
  const box = await stage.boundingBox();
  const data = await page.evaluateHandle(
    ([name, base64]) => {
      const transfer = new DataTransfer();
      const bytes = Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
      transfer.items.add(new File([bytes], name));
      return transfer;
    },
    [name, Buffer.from(content).toString("base64")],
  );
  const at = { clientX: box.x + x * box.width, clientY: box.y + y * box.height };
  await stage.dispatchEvent("dragover", { dataTransfer: data, ...at });
  await stage.dispatchEvent("drop", { dataTransfer: data, ...at });
}
