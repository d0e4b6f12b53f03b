// Cloth and soft bodies: made, held, blown, moved toward a material, coloured by what is measured.
import { expect, test } from "./test.mjs";
import { add, computed, makeCloth, newShot, pick, saved, shown, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

/** The heights of a cloth's vertices at a frame, from its OBJ. */
async function heights(page, frame) {
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const path = `${server.address}/api/shots/${id}/meshes/obj?first=${frame}&last=${frame}`;
  const lines = (await (await page.request.get(path)).text()).split("\n");
  return lines.filter((line) => line.startsWith("v ")).map((line) => Number(line.split(" ")[2]));
}

/** A shot with a sheet 2 m above the ground, made cloth. */
async function newSheet(page, name) {
  await newShot(page, server.address, { name });
  await add(page, "Plane");
  await tab(page, "Placement");
  await type(page, "Place y", "2");
  await makeCloth(page);
}

test("a sheet is made cloth in one press, held, blown and moved halfway toward silk", async ({ page }) => {
  await newSheet(page, "Drying");
  await page.getByRole("button", { name: "Add a pin" }).click();
  await pick(page, "Pin 1", "the back side");
  await saved(page, "Pins");
  await type(page, "Edges, mm", "120");
  await saved(page, "Edges");
  await pick(page, "Toward", "silk");
  await type(page, "By, %", "50");
  await page.getByRole("button", { name: "Move toward silk" }).click();
  await saved(page, "50 % toward silk");
  // Halfway by equal factors: √(300 · 60) g/m².
  await expect(page.getByRole("textbox", { name: "Weight, g/m²", exact: true })).toHaveValue(/^134/);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  const [first, later] = [await heights(page, 1), await heights(page, 20)];
  expect(first.every((y) => Math.abs(y - 2) < 1e-3)).toBe(true);
  // The held side stays, the other hangs.
  expect(Math.max(...later)).toBeCloseTo(2, 2);
  expect(Math.min(...later)).toBeLessThan(1.6);
  await expect(page.getByRole("region", { name: "Timeline" }).getByText("Plane").first()).toBeVisible();
});

test("a ball is made soft in one press, bounces on steps, and shows its compression", async ({ page }) => {
  await newShot(page, server.address, { name: "Steps" });
  for (const [name, x, y] of [
    ["Low step", "0.5", "-0.5"],
    ["High step", "-0.5", "-0.2"],
  ]) {
    await add(page, "Box");
    await page.getByRole("textbox", { name: "Name", exact: true }).fill(name);
    await page.keyboard.press("Enter");
    await tab(page, "Placement");
    await type(page, "Place x", x);
    await type(page, "Place y", y);
    await tab(page, "Body");
    await page.getByRole("radio", { name: "Still", exact: true }).click();
    await saved(page, "Movement");
  }
  await add(page, "Sphere");
  await tab(page, "Placement");
  await type(page, "Place x", "-0.2");
  await type(page, "Place y", "1.2");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Soft", exact: true }).click();
  await saved(page, "Soft body");
  // Cells are by the size of the ball.
  await expect(page.getByRole("textbox", { name: "Cells, mm", exact: true })).toHaveValue(/^\d/);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await page.getByRole("button", { name: "Colour by" }).click();
  const measured = page.waitForResponse((response) =>
    /surface\/\d+\/\d+\?quantity=compression/.test(response.url()),
  );
  await page.getByRole("menuitemradio", { name: "Compression", exact: true }).click();
  const values = new Float32Array((await (await measured).body()).buffer.slice(0));
  expect(values.length).toBeGreaterThan(0);
  await expect(page.getByRole("img", { name: "Colours" })).toBeVisible();
  await type(page, "Top of compression, %", "20");
  await expect(page.getByRole("textbox", { name: "Top of compression, %", exact: true })).toHaveValue("20");
  await shown(page);
});

test("the stretch of a hung sheet is measured and shown", async ({ page }) => {
  await newSheet(page, "Hung");
  await page.getByRole("button", { name: "Add a pin" }).click();
  await saved(page, "Pin");
  await type(page, "Edges, mm", "150");
  await saved(page, "Edges");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await page.getByRole("button", { name: "Colour by" }).click();
  await page.getByRole("menuitemradio", { name: "Stretch", exact: true }).click();
  await expect(page.getByRole("img", { name: "Colours" })).toBeVisible();
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const { run } = await (await page.request.get(`${server.address}/api/shots/${id}/freshness`)).json();
  const element = (
    await (await page.request.get(`${server.address}/api/shots/${id}`)).json()
  ).document.elements.find((of) => of.name === "Plane").id;
  const path = `${server.address}/api/runs/${run}/surface/${element}/20?quantity=stretch`;
  const bytes = await (await page.request.get(path)).body();
  const values = Array.from(new Float32Array(bytes.buffer, bytes.byteOffset, bytes.length / 4));
  expect(Math.max(...values)).toBeGreaterThan(0);
  expect((await page.request.get(path.replace("stretch", "sorrow"))).status()).toBe(422);
});
