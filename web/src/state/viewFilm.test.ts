import { expect, test } from "vitest";
import { percent } from "./numbers";
import { packed } from "./viewFilm.svelte";

test("drawings stand behind their lengths", async () => {
  const drawings = [new Blob(["abc"]), new Blob(["defgh"])];
  const view = new DataView(await (await packed(drawings)).arrayBuffer());
  expect(view.byteLength).toBe(4 + 3 + 4 + 5);
  expect([view.getUint32(0, true), view.getUint32(7, true)]).toEqual([3, 5]);
  expect(view.getUint8(4)).toBe("a".charCodeAt(0));
});

test("shares are told in per cent, large ones as multiples", () => {
  expect([0.0042, 0.1, 0.985, 32.2].map(percent)).toEqual(["0.4 %", "10 %", "99 %", "32 ×"]);
});
