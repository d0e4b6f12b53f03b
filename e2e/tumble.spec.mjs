// From an empty shot to a film, by clicking and typing.
import { expect, test } from "./test.mjs";
import { readFileSync } from "node:fs";
import { add, computed, drawn, goTo, newShot, select, stretches, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

test("a tumble is staged, played, changed, rendered and saved", async ({ page }) => {
  await newShot(page, server.address, { name: "My tumble", last: 24 });
  await add(page, "Plane");
  await add(page, "Box");
  await tab(page, "Placement");
  await type(page, "Place y", "0.6");
  await tab(page, "Shape");
  await page.getByRole("button", { name: "Grid of copies" }).click();
  await expect(page.getByText("Solid, free, 27 copies")).toBeVisible();
  await add(page, "Sphere");
  await tab(page, "Placement");
  await type(page, "Place x", "-2");
  await tab(page, "Body");
  await type(page, "Velocity x", "6");

  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await goTo(page, 20, 1, 24);
  await expect(page.getByTestId("reading")).toContainText("contacts");
  await goTo(page, 7, 1, 24);
  await expect(page.getByTestId("reading")).toContainText("frame 7 · computed");

  await select(page, "Box");
  await type(page, "Friction", "0.9");
  await expect(stretches(page).first()).toHaveAttribute("data-state", "stale");
  await expect(stretches(page).first()).toHaveText(/before friction of Box changed/);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(stretches(page).first()).toHaveAttribute("data-state", "fresh");

  await page.reload();
  await drawn(page);
  await page.getByRole("button", { name: "Redo" }).click();
  await expect(stretches(page).first()).toHaveAttribute("data-state", "stale");
  await page.getByRole("button", { name: "Undo" }).click();

  await page.getByRole("button", { name: "Keep run" }).first().click();
  await page.getByRole("link", { name: "Runs" }).click();
  await expect(page.getByText("24 frames")).toBeVisible();
  await page.getByRole("button", { name: "Show as ghost" }).click();
  await drawn(page);

  await page.getByRole("button", { name: "Render…" }).click();
  await page.getByRole("radio", { name: "Draft film" }).click();
  await type(page, "Samples, a pixel", "2");
  await page.getByRole("button", { name: "Begin" }).click();
  const movie = page.getByRole("link", { name: "MP4" });
  await expect(movie).toBeVisible({ timeout: 60_000 });
  const download = page.waitForEvent("download");
  await movie.click();
  const bytes = readFileSync(await (await download).path());
  expect(bytes.subarray(4, 8).toString()).toBe("ftyp");

  const plays = await page.evaluate(async (url) => {
    const video = document.createElement("video");
    video.muted = true;
    video.src = url;
    await new Promise((resolve, reject) => {
      video.onloadeddata = resolve;
      video.onerror = () => reject(new Error(video.error?.message));
    });
    return [video.videoWidth, Math.round(video.duration * 24)];
  }, await movie.getAttribute("href"));
  expect(plays).toEqual([80, 24]);

  await page.getByRole("button", { name: "First against last" }).click();
  await expect(page.getByText("frame 1 against 24")).toBeVisible();
});
