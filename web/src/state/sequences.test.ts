import { expect, test } from "vitest";
import { crc32, sequencesOf } from "./sequences";

const text = (name: string, content = name) => new File([content], name);

test("numbered files of one name go as one archive, others as they are", async () => {
  const names = ["flag_0002.obj", "crate.obj", "flag_0001.obj", "gate_1.obj", "sky.exr"];
  const files = await sequencesOf(names.map((name) => text(name)));
  expect(files.map((file) => file.name)).toEqual(["crate.obj", "sky.exr", "flag.zip", "gate_1.obj"]);
});

test("the archive holds the files as they are", async () => {
  const [file] = await sequencesOf([text("a1.obj", "v 0 0 0"), text("a2.obj", "v 1 0 0")]);
  const bytes = new Uint8Array(await file.arrayBuffer());
  const view = new DataView(bytes.buffer);
  const string = (at: number, length: number) => new TextDecoder().decode(bytes.slice(at, at + length));
  expect([view.getUint32(0, true), string(30, 6), string(36, 7)]).toEqual([0x04034b50, "a1.obj", "v 0 0 0"]);
  expect([view.getUint32(18, true), view.getUint16(26, true)]).toEqual([7, 6]);
  // The end: two entries, and where the directory begins.
  const end = bytes.length - 22;
  expect([view.getUint32(end, true), view.getUint16(end + 10, true)]).toEqual([0x06054b50, 2]);
  const directory = view.getUint32(end + 16, true);
  expect([view.getUint32(directory, true), string(directory + 46, 6)]).toEqual([0x02014b50, "a1.obj"]);
  expect(view.getUint32(directory + 16, true)).toBe(crc32(new TextEncoder().encode("v 0 0 0")));
});

test("the checksum is that of the standard", () => {
  expect(crc32(new TextEncoder().encode("123456789"))).toBe(0xcbf43926);
});
