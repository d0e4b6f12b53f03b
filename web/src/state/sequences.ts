// Numbered files that are dropped together: they go to the server as one archive.

const NUMBERED = /^(.*?)(\d+)\.obj$/i;

/**
 * Files as they are taken in: numbered OBJ files of one name become a ZIP archive, in which each is as it was
 * (method *stored* of PKWARE's APPNOTE). A single one stays a file of its own.
 */
export async function sequencesOf(files: File[]): Promise<File[]> {
  const sequences = new Map<string, File[]>();
  const others: File[] = [];
  for (const file of files) {
    const stem = NUMBERED.exec(file.name)?.[1];
    if (stem === undefined) others.push(file);
    else sequences.set(stem, [...(sequences.get(stem) ?? []), file]);
  }
  for (const [stem, numbered] of sequences) {
    if (numbered.length === 1) others.push(...numbered);
    else others.push(new File([await zip(numbered)], `${stem.replace(/[_.\- ]+$/, "") || "Sequence"}.zip`));
  }
  return others;
}

/** An archive of files as they are. */
async function zip(files: File[]): Promise<Blob> {
  const parts: BlobPart[] = [];
  const directory: BlobPart[] = [];
  let [at, length] = [0, 0];
  for (const file of files) {
    const bytes = new Uint8Array(await file.arrayBuffer());
    const name = new TextEncoder().encode(file.name);
    // Version, flags (names in UTF-8), method, time, date.
    const head = [20, 0x800, 0, 0, 0x21];
    const sizes = [crc32(bytes), bytes.length, bytes.length];
    parts.push(record(0x04034b50, head, sizes, [name.length, 0]), name, bytes);
    const tail = record(0x02014b50, [20, ...head], sizes, [name.length, 0, 0, 0, 0], [0, at]);
    directory.push(tail, name);
    length += tail.byteLength + name.length;
    at += 30 + name.length + bytes.length;
  }
  const end = record(0x06054b50, [0, 0, files.length, files.length], [length, at], [0]);
  return new Blob([...parts, ...directory, end]);
}

/** A signature, then words of two bytes and of four in turn, little-endian. */
function record(signature: number, ...groups: number[][]): ArrayBuffer {
  const widths = groups.map((_, i) => (i % 2 === 0 ? 2 : 4));
  const size = groups.reduce((sum, group, i) => sum + widths[i] * group.length, 4);
  const view = new DataView(new ArrayBuffer(size));
  view.setUint32(0, signature, true);
  let at = 4;
  groups.forEach((group, i) => {
    for (const value of group) {
      if (widths[i] === 2) view.setUint16(at, value, true);
      else view.setUint32(at, value, true);
      at += widths[i];
    }
  });
  return view.buffer;
}

const TABLE = Uint32Array.from({ length: 256 }, (_, byte) => {
  let value = byte;
  for (let bit = 0; bit < 8; bit++) value = value & 1 ? (value >>> 1) ^ 0xedb88320 : value >>> 1;
  return value >>> 0;
});

export function crc32(bytes: Uint8Array): number {
  let sum = 0xffffffff;
  for (const byte of bytes) sum = TABLE[(sum ^ byte) & 255] ^ (sum >>> 8);
  return (sum ^ 0xffffffff) >>> 0;
}
