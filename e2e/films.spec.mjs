// Looks, lights and the lens; stills and films; comparing them in Dailies.
import { expect, test } from "./test.mjs";
import { readFileSync } from "node:fs";
import { add, newShot, select, tab, type } from "./desk.mjs";
import { dropIntoViewport, png } from "./files.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

async function begin(page, kind, samples) {
  await page.getByRole("button", { name: "Render…" }).click();
  const dialog = page.getByRole("dialog", { name: "Render" });
  await dialog.getByRole("radio", { name: kind }).click();
  await type(page, "Samples, a pixel", samples);
  return dialog;
}

async function download(page, link) {
  const coming = page.waitForEvent("download");
  await link.click();
  const file = await coming;
  return { name: file.suggestedFilename(), bytes: readFileSync(await file.path()) };
}

/** Mean of the pixels of the picture shown, 0 to 255. */
async function brightness(page) {
  const image = page.getByTestId("film-frame");
  await expect(image).toBeVisible();
  return image.evaluate(async (element) => {
    await element.decode();
    const canvas = new OffscreenCanvas(element.naturalWidth, element.naturalHeight);
    const context = canvas.getContext("2d");
    context.drawImage(element, 0, 0);
    const { data } = context.getImageData(0, 0, canvas.width, canvas.height);
    return data.reduce((sum, v, i) => sum + (i % 4 === 3 ? 0 : v), 0) / (0.75 * data.length);
  });
}

test("a lit still of a cast look comes out as PNG and EXR", async ({ page }) => {
  await newShot(page, server.address, { name: "Lit" });
  await add(page, "Plane");
  await add(page, "Sphere");
  await dropIntoViewport(page, "rope.png", png);
  await page.getByRole("dialog").getByRole("button", { name: /^A look's image/ }).click();
  await tab(page, "Look");
  for (const [field, value] of [
    ["Albedo, red green blue", "0.9 0.1 0.1"],
    ["Roughness", "0.1"],
    ["Transmission", "0.4"],
    ["Refraction", "1.33"],
    ["Emission red", "2"],
  ]) {
    await type(page, field, value);
    await expect(page.getByRole("textbox", { name: field, exact: true })).toHaveValue(value);
  }
  await add(page, "Area light");
  await type(page, "Radiance, W/m² sr", "25");
  await tab(page, "Placement");
  await type(page, "Turn x", "20");
  await select(page, "Sun");
  await tab(page, "Light");
  await type(page, "Angular size, °", "2");
  await select(page, "Camera");
  await tab(page, "Lens");
  await type(page, "F-stop", "2.8");
  await page.getByLabel("Aimed at").click();
  await page.getByRole("option", { name: "Sphere" }).click();
  await expect(page.getByLabel("Aimed at")).toHaveText(/Sphere/);

  const dialog = await begin(page, "Still", "4");
  await dialog.getByRole("checkbox", { name: "Also EXR" }).check();
  await dialog.getByRole("button", { name: "Begin" }).click();
  const films = page.getByRole("complementary", { name: "Films" });
  await expect(films.getByText(/1 frame ·/)).toBeVisible({ timeout: 60_000 });
  const shown = await download(page, films.getByRole("link", { name: "PNG" }));
  expect([shown.name, shown.bytes.subarray(1, 4).toString()]).toEqual(["Still, frame 1 1.png", "PNG"]);
  const linear = await download(page, films.getByRole("link", { name: "EXR" }));
  expect(linear.bytes.readUInt32LE(0)).toBe(20000630);
  for (const layer of ["depth.Z", "normal.X", "element.id"])
    expect(linear.bytes.subarray(0, 2000).toString("latin1")).toContain(layer);
  expect(await brightness(page)).toBeGreaterThan(30);
});

test("films are compared, stepped, looped and deleted", async ({ page }) => {
  await newShot(page, server.address, { name: "Compared", last: 4 });
  await add(page, "Box");
  let dialog = await begin(page, "Draft film", "2");
  await expect(dialog).toContainText("4 frames are not computed yet");
  await dialog.getByRole("button", { name: "Begin" }).click();
  const films = page.getByRole("complementary", { name: "Films" });
  await expect(films.getByRole("link", { name: "MP4" })).toHaveCount(1, { timeout: 60_000 });
  const day = await brightness(page);

  await page.getByRole("link", { name: "Desk" }).click();
  for (const light of ["Sun", "Sky"]) {
    await select(page, light);
    await type(page, light === "Sun" ? "Irradiance, W/m²" : "Strength", "0.1");
  }
  dialog = await begin(page, "Draft film", "2");
  await dialog.getByRole("button", { name: "Begin" }).click();
  await expect(films.getByRole("link", { name: "MP4" })).toHaveCount(2, { timeout: 60_000 });
  await films.getByRole("button", { name: /^Draft 2 \d/ }).click();
  expect(await brightness(page)).toBeLessThan(0.6 * day);

  await page.getByRole("button", { name: "Wipe" }).click();
  const wipe = page.getByRole("slider", { name: "Wipe" });
  await wipe.fill("20");
  const over = page.getByRole("img", { name: /Draft 1, frame 1/ });
  await expect(over).toHaveCSS("clip-path", "inset(0px 0px 0px 20%)");
  await page.getByRole("button", { name: "First against last" }).click();
  await expect(page.getByText("Draft 2: frame 1 against 4")).toBeVisible();
  await page.getByRole("button", { name: "First against last" }).click();

  await page.getByRole("button", { name: "One frame on" }).click();
  await expect(page.getByTestId("film-number")).toContainText("2 ");
  const picture = await download(page, films.getByRole("link", { name: "PNG" }).first());
  expect(picture.name).toBe("Draft 2 2.png");
  const all = await download(page, films.getByRole("link", { name: "All frames" }).first());
  expect(all.bytes.subarray(0, 2).toString()).toBe("PK");
  await page.getByRole("button", { name: "loops" }).click();
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await expect(page.getByTestId("film-number")).toContainText("4 ");
  await expect(page.getByRole("button", { name: "Play", exact: true })).toBeVisible();

  await films.getByRole("button", { name: "Delete Draft 2" }).click();
  await page.getByRole("alertdialog").getByRole("button", { name: "Delete" }).click();
  await expect(films.getByRole("listitem")).toHaveCount(1);
});

test("a film is stopped and gone on with; its progress shows on every view", async ({ page }) => {
  await newShot(page, server.address, { name: "Long film", last: 24 });
  await add(page, "Sphere");
  const dialog = await begin(page, "Final film", "60");
  await dialog.getByRole("button", { name: "Begin" }).click();
  const films = page.getByRole("complementary", { name: "Films" });
  await expect(films).toContainText(/frame [1-9]\d* of 24 · .* left/, { timeout: 120_000 });
  await page.getByRole("link", { name: "Runs" }).click();
  await expect(page.getByRole("status")).toContainText(/Rendering \d+ of 24/);
  await page.getByRole("button", { name: "Stop: Rendering" }).click();
  await page.getByRole("link", { name: "Dailies" }).click();
  await expect(films).toContainText(/stopped at \d+ of 24/);
  await films.getByRole("button", { name: "Go on" }).click();
  await expect(films).toContainText(/frame \d+ of 24/);
  await films.getByRole("button", { name: "Stop" }).click();
  await expect(films).toContainText(/stopped at \d+ of 24/);
});

test("a shot without a camera says so when it is rendered", async ({ page }) => {
  await newShot(page, server.address, { name: "Blind" });
  await select(page, "Camera");
  await page.keyboard.press("Delete");
  const dialog = await begin(page, "Still", "1");
  await dialog.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByRole("complementary", { name: "Films" })).toContainText(/failed: .*camera/);
});

test("a film that cannot be is refused and what was typed stays", async ({ page }) => {
  await newShot(page, server.address, { name: "Refused" });
  const dialog = await begin(page, "Draft film", "2");
  await type(dialog, "First frame", "20");
  await type(dialog, "Last frame", "3");
  await dialog.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByRole("alert")).toContainText("first: 20 comes after the last frame, 3");
  await expect(dialog.getByRole("textbox", { name: "First frame" })).toHaveValue("20");
});
