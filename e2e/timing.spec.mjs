// Frame rate, loop length, and the Viewport's drawing as a film.
import { readFile } from "node:fs/promises";
import { expect, test } from "./test.mjs";
import { add, computed, newShot, saved, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const frame = (page) => page.getByTestId("frame");
const play = async (page) => {
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
};

test("another frame rate keeps seconds and shows the run retimed, or keeps frames", async ({ page }) => {
  await newShot(page, server.address, { name: "Rated" });
  await add(page, "Plane");
  await add(page, "Box");
  await play(page);
  await page.keyboard.press("Escape");
  await type(page, "Frame rate, fps", "48");
  await expect(frame(page)).toContainText("/ 48");
  await expect(page.getByTestId("status")).toHaveText("Stale frames are computed again by playing");
  await page.getByRole("radio", { name: "frames" }).click();
  await type(page, "Frame rate, fps", "24");
  await expect(frame(page)).toContainText("/ 48");
  await expect(page.getByText("2.00 s")).toBeVisible();
});

test("a shot that goes round stops by itself, and one press shows the round", async ({ page }) => {
  await newShot(page, server.address, { name: "Round" });
  await add(page, "Particles");
  await tab(page, "Births");
  await type(page, "Lifespan, s", "0.2");
  await saved(page, "Lifespan");
  // Out of the field, then off the element.
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");
  await type(page, "Last frame", "60");
  await saved(page, "Last frame changed");
  await type(page, "Goes round in, frames", "12");
  await saved(page, "Loop length changed");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await expect(page.getByTestId("closed")).toContainText("12 frames go round", { timeout: 60_000 });
  const rounds = page.getByRole("list", { name: "Rounds" }).getByRole("listitem");
  await rounds.last().getByRole("button").click();
  await expect(frame(page)).toContainText("/ 12 of 60 computed");
});

test("the Viewport's drawing is saved as a film", async ({ page }) => {
  await newShot(page, server.address, { name: "Drawn" });
  await add(page, "Plane");
  await add(page, "Box");
  await play(page);
  await page.getByRole("button", { name: "Render…" }).click();
  await page.getByRole("radio", { name: "As drawn" }).click();
  await type(page, "Last frame", "5", page.getByRole("dialog"));
  const download = page.waitForEvent("download");
  await page.getByRole("button", { name: "Begin" }).click();
  const film = await download;
  expect(film.suggestedFilename()).toBe("Drawn as drawn.mp4");
  const bytes = await readFile(await film.path());
  expect(bytes.subarray(4, 8).toString()).toBe("ftyp");
  // A box of the sizes of samples tells five of them.
  expect(bytes.readUInt32BE(bytes.indexOf("stsz") + 12)).toBe(5);
});
