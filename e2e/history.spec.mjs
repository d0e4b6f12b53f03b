// Versions, undo across restarts, and shots as files.
import { expect, test } from "./test.mjs";
import { readFileSync } from "node:fs";
import { add, drawn, newShot, select, tab, type } from "./desk.mjs";
import { dropIntoViewport, put, wedge } from "./files.mjs";
import { Server } from "./server.mjs";

// The server is ended here, and what it answers then is an error.
test.use({ expectedErrors: /ERR_|WebSocket|Failed to load resource/ });

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const field = (page, name) => page.getByRole("textbox", { name, exact: true });

test("a named version is restored after the server was restarted", async ({ page }) => {
  const own = await new Server().start();
  await newShot(page, own.address, { name: "Versions" });
  await add(page, "Box");
  await tab(page, "Body");
  await type(page, "Friction", "0.7");
  await page.getByRole("button", { name: "History" }).click();
  await field(page, "Name this version").fill("Low tide");
  await page.getByRole("button", { name: "Name it" }).click();
  await expect(page.getByRole("listitem").filter({ hasText: "Low tide" })).toContainText("now");
  await page.keyboard.press("Escape");
  await type(page, "Friction", "0.2");
  await type(page, "Bounce", "0.9");
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /Bounce of Box/);

  const hash = new URL(page.url()).hash;
  await own.kill();
  await own.start();
  await page.goto(`${own.address}/${hash}`);
  await drawn(page);
  await select(page, "Box");
  await expect(field(page, "Friction")).toHaveValue("0.2");
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(field(page, "Bounce")).toHaveValue("0.2");
  await page.getByRole("button", { name: "History" }).click();
  await page.getByRole("listitem").filter({ hasText: "Low tide" }).getByRole("button").click();
  await page.keyboard.press("Escape");
  await expect(field(page, "Friction")).toHaveValue("0.7");
  await own.end();
});

test("a shot with its mesh goes out as a file and comes in again", async ({ page }, info) => {
  await newShot(page, server.address, { name: "Outward" });
  await dropIntoViewport(page, "Wedge.obj", wedge);
  await expect(field(page, "Name")).toHaveValue("Wedge");
  await page.getByRole("button", { name: "History" }).click();
  const coming = page.waitForEvent("download");
  await page.getByRole("link", { name: "Save the shot as a file" }).click();
  const zip = readFileSync(await (await coming).path());
  await page.goto(server.address);
  await page.getByLabel("Shot file").setInputFiles(put(info, "outward.zip", zip));
  await expect(page.getByRole("heading", { name: "Outward", level: 1 })).toBeVisible();
  await select(page, "Wedge");
  await page.goto(server.address);
  await expect(page.getByRole("link", { name: /Outward/ })).toHaveCount(2);
});

test("a file that is no shot is refused by name", async ({ page }, info) => {
  await page.goto(server.address);
  for (const [name, content, message] of [
    ["broken.zip", "PK\u0003\u0004 nonsense", "broken.zip"],
    ["old.json", '{"version": 99}', "version: 99 is not a version this build reads"],
    ["notes.json", "tide tables", "is not JSON"],
  ]) {
    await page.getByLabel("Shot file").setInputFiles(put(info, name, content));
    await expect(page.getByRole("alert").filter({ hasText: message })).toBeVisible();
  }
});

test("a shot is deleted only after it was asked", async ({ page }) => {
  await newShot(page, server.address, { name: "Doomed" });
  await page.goto(server.address);
  await page.getByRole("button", { name: "Delete Doomed" }).click();
  const dialog = page.getByRole("alertdialog");
  await expect(dialog).toContainText("Its history, runs and films go with it. This cannot be undone.");
  await dialog.getByRole("button", { name: "Keep it" }).click();
  await expect(page.getByRole("link", { name: /Doomed/ })).toBeVisible();
  await page.getByRole("button", { name: "Delete Doomed" }).click();
  await dialog.getByRole("button", { name: "Delete" }).click();
  await expect(page.getByRole("link", { name: /Doomed/ })).toHaveCount(0);
});

test("several elements are renamed, duplicated, deleted and brought back", async ({ page }) => {
  await newShot(page, server.address, { name: "Several" });
  await add(page, "Box");
  await field(page, "Name").fill("Crate");
  await field(page, "Name").press("Enter");
  const timeline = page.getByRole("region", { name: "Timeline" });
  await expect(timeline.getByRole("button", { name: "Crate", exact: true })).toBeVisible();
  await add(page, "Sphere");
  await timeline.getByRole("button", { name: "Crate", exact: true }).click({ modifiers: ["Control"] });
  await page.keyboard.press("Control+u");
  await expect(timeline.getByRole("button", { name: "Crate 2", exact: true })).toHaveAttribute(
    "aria-pressed",
    "true",
  );
  await expect(timeline.getByRole("button", { name: "Sphere 2", exact: true })).toBeVisible();
  await page.keyboard.press("Delete");
  await expect(timeline.getByRole("button", { name: "Sphere 2", exact: true })).toHaveCount(0);
  await page.keyboard.press("Control+z");
  await expect(timeline.getByRole("button", { name: "Sphere 2", exact: true })).toBeVisible();
  await page.keyboard.press("Control+Shift+z");
  await expect(timeline.getByRole("button", { name: "Sphere 2", exact: true })).toHaveCount(0);
});
