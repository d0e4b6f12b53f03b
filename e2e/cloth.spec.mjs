// Cloth: made, held, blown, moved toward a material.
import { expect, test } from "./test.mjs";
import { add, computed, newShot, pick, saved, tab, type } from "./desk.mjs";
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

test("a sheet is made cloth in one press, held, blown and moved halfway toward silk", async ({ page }) => {
  await newShot(page, server.address, { name: "Drying" });
  await add(page, "Plane");
  await tab(page, "Placement");
  await type(page, "Place y", "2");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Free", exact: true }).click();
  await page.getByRole("radio", { name: "Cloth", exact: true }).click();
  await saved(page, "Cloth");
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
