// The pictures in docs/screenshots, from the sample data.
import { chromium } from "@playwright/test";
import { mkdirSync } from "node:fs";
import { fileURLToPath } from "node:url";
import config from "./playwright.config.mjs";
import { add, computed, goTo, open, select, type } from "./desk.mjs";
import { Server } from "./server.mjs";

const folder = fileURLToPath(new URL("../docs/screenshots", import.meta.url));
mkdirSync(folder, { recursive: true });
const server = await new Server().start("--demo");
const browser = await chromium.launch(config.use.launchOptions);
const page = await browser.newPage({ viewport: { width: 1280, height: 800 } });
const take = async (name) => {
  // What was said has been read.
  for (const close of await page.getByRole("button", { name: "Dismiss" }).all()) await close.click();
  await page.waitForTimeout(1500);
  await page.screenshot({ path: `${folder}/${name}.png` });
};

await open(page, server.address, "Crate tumble");
await page.getByRole("button", { name: "Play", exact: true }).click();
await computed(page);
await page.getByRole("button", { name: "Pause" }).click();
await page.getByRole("button", { name: "Keep run" }).click();
await select(page, "Crate stack");
await type(page, "Friction", "0.8");
await page.getByRole("button", { name: "Play", exact: true }).click();
await computed(page);
await page.getByRole("button", { name: "Pause" }).click();
await page.getByRole("button", { name: "Keep run" }).click();
await select(page, "Mooring block");
await goTo(page, 38, 1, 96);
await take("desk");
// A ball put down inside the crates is a mistake to be told of.
await add(page, "Sphere");
await page.getByRole("button", { name: /to check/ }).click();
await page.getByText(/starts .* inside/).waitFor();
await take("check-list");
await page.keyboard.press("Escape");
await page.getByRole("button", { name: "Undo" }).click();
await page.getByRole("link", { name: "Runs" }).click();
await take("runs");
await page.getByRole("button", { name: "Render…" }).click();
await page.getByRole("radio", { name: "Draft film" }).click();
await type(page, "First frame", "33");
await type(page, "Last frame", "40");
await type(page, "Samples, a pixel", "24");
await page.getByRole("button", { name: "Begin" }).click();
await page.getByRole("link", { name: "MP4" }).waitFor({ timeout: 900_000 });
await page.getByRole("button", { name: "Frame 38", exact: true }).click();
await take("dailies");
await open(page, server.address, "Squall test");
await page.getByRole("button", { name: "Play", exact: true }).click();
await computed(page);
await page.getByRole("button", { name: "Pause" }).click();
await goTo(page, 52, 1, 120);
await select(page, "Squall front");
await page.getByRole("button", { name: "Show what forces do" }).click();
await page.getByRole("button", { name: "Free", exact: true }).click();
await take("forces");
await page.getByRole("button", { name: "Show what forces do" }).click();
await page.getByRole("button", { name: "Pier camera" }).first().click();
await page.getByRole("button", { name: "Open the curves of Squall", exact: true }).click();
await page.getByRole("button", { name: "Open the curves of Squall front" }).click();
await select(page, "Squall");
await page.getByRole("button", { name: "Key of Squall at frame 60" }).click();
await take("curves");
await page.goto(server.address);
for (const name of ["Crate tumble", "Lantern parade"])
  await page.getByRole("img", { name: new RegExp(name) }).waitFor();
await take("home");
await browser.close();
await server.end();
