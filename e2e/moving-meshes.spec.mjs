// Meshes that change with time.
import { expect, test } from "./test.mjs";
import { add, computed, newShot, saved, select, tab } from "./desk.mjs";
import { put } from "./files.mjs";
import validator from "gltf-validator";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

/** A square 4 m wide, so high. */
const square = (y) => `v -2 ${y} -2\nv 2 ${y} -2\nv 2 ${y} 2\nv -2 ${y} 2\nf 1 4 3 2\n`;

test("numbered files that are taken in together move, carry what lies on them, and are played as wished", async ({
  page,
}, info) => {
  await newShot(page, server.address, { name: "Lift" });
  const paths = [0, 1, 2, 3, 4, 5].map((i) => put(info, `lift_0${i}.obj`, square(0.05 * i)));
  await page.getByLabel("File to take in").setInputFiles(paths);
  await saved(page, "lift.zip taken in");
  await select(page, "lift");
  await tab(page, "Body");
  await expect(page.getByRole("checkbox", { name: "The file moves the mesh" })).toBeChecked();
  await expect(page.getByText("as its own surface, as the file moves it")).toBeVisible();

  await add(page, "Box");
  await page.getByRole("button", { name: "Drop to rest" }).click();
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  // The box has come up with the square, by 5 × 5 cm.
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const { document } = await (await page.request.get(`${server.address}/api/shots/${id}`)).json();
  const box = document.elements.find((element) => element.name === "Box");
  const { run } = await (await page.request.get(`${server.address}/api/shots/${id}/freshness`)).json();
  const track = await (await page.request.get(`${server.address}/api/runs/${run}/track?element=${box.id}&copy=0`)).json();
  const [first, last] = [track.height_m[0], track.height_m.at(-1)];
  expect(last - first).toBeGreaterThan(0.23);
  expect(last - first).toBeLessThan(0.27);

  await select(page, "lift");
  await tab(page, "Body");
  await page.getByLabel("After").getByText("To and fro").click();
  await saved(page, "After of lift");
  await expect(page.locator("[data-state=stale]").first()).toBeVisible();
});

test("a sequence with a gap is refused by the number that is missing", async ({ page }, info) => {
  await newShot(page, server.address, { name: "Gap" });
  const paths = [1, 2, 4].map((i) => put(info, `gap_${i}.obj`, square(i)));
  await page.getByLabel("File to take in").setInputFiles(paths);
  await expect(page.getByText("gap.zip: frame 3 is missing: gap_4.obj follows gap_2.obj")).toBeVisible();
});

test("frames are handed on as glTF that its own validator finds sound", async ({ page }, info) => {
  await newShot(page, server.address, { name: "On", last: 6 });
  const paths = [0, 1, 2, 3].map((i) => put(info, `on_${i}.obj`, square(0.05 * i)));
  await page.getByLabel("File to take in").setInputFiles(paths);
  await saved(page, "on.zip taken in");
  await add(page, "Box");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await page.keyboard.press("Escape");
  const download = page.waitForEvent("download");
  await page.getByRole("link", { name: "Frames 1–6 as GLB" }).click();
  const file = await download;
  expect(file.suggestedFilename()).toBe("On 1-6.glb");
  const chunks = [];
  for await (const chunk of await file.createReadStream()) chunks.push(chunk);
  const report = await validator.validateBytes(new Uint8Array(Buffer.concat(chunks)));
  expect(report.issues.messages.filter(({ severity }) => severity < 2)).toEqual([]);
  expect([report.info.animationCount, report.info.hasMorphTargets]).toEqual([1, true]);
});
