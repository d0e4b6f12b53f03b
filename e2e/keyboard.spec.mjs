// The whole way from an empty shot to a film without a pointer.
import { expect, test } from "./test.mjs";
import { readFileSync } from "node:fs";
import { computed, drawn, newShot } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

/** Presses Tab until something has the focus. */
async function tabTo(page, locator) {
  await expect(locator).toBeVisible();
  for (let i = 0; i < 120; i++) {
    if (await locator.evaluate((element) => element === document.activeElement)) return;
    await page.keyboard.press("Tab");
  }
  throw new Error(`${locator} cannot be reached by Tab`);
}

async function typeInto(page, locator, value) {
  await tabTo(page, locator);
  await page.keyboard.press("Control+a");
  await page.keyboard.type(value);
  await page.keyboard.press("Enter");
}

async function find(page, words) {
  await page.keyboard.press("Control+j");
  await expect(page.getByRole("combobox", { name: "Find a command" })).toBeFocused();
  await page.keyboard.type(words);
  await page.keyboard.press("Enter");
  await expect(page.getByRole("combobox", { name: "Find a command" })).toHaveCount(0);
}

test("a shot is begun, staged, played, scrubbed, rendered and taken away by keyboard alone", async ({ page }) => {
  await page.goto(server.address);
  await tabTo(page, page.getByRole("button", { name: "New shot" }));
  await page.keyboard.press("Enter");
  const dialog = page.getByRole("dialog");
  for (const [field, value] of [
    ["Name", "By keys"],
    ["Width, px", "96"],
    ["Height, px", "64"],
    ["Last frame", "12"],
  ])
    await typeInto(page, dialog.getByRole("textbox", { name: field, exact: true }), value);
  await tabTo(page, dialog.getByRole("button", { name: "Begin" }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("heading", { name: "By keys", level: 1 })).toBeVisible();
  await drawn(page);

  // Adding, selecting, typing values.
  await find(page, "add plane");
  await find(page, "add torus");
  const name = page.getByRole("textbox", { name: "Name", exact: true });
  await expect(name).toHaveValue("Torus");
  await find(page, "place torus");
  await expect(page.getByRole("textbox", { name: "Place x" })).toBeFocused();
  await typeInto(page, page.getByRole("textbox", { name: "Place y" }), "0.8");
  await find(page, "friction plane");
  await expect(name).toHaveValue("Plane");
  await page.keyboard.press("Control+a");
  await page.keyboard.type("0.8");
  await page.keyboard.press("Enter");
  await tabTo(page, page.getByRole("region", { name: "Timeline" }).getByRole("button", { name: "Torus", exact: true }));
  await page.keyboard.press("Enter");
  await expect(name).toHaveValue("Torus");

  // Tabs and choices by arrows.
  await tabTo(page, page.getByRole("tab", { selected: true }));
  await page.keyboard.press("ArrowRight");
  await expect(page.getByRole("tab", { name: "Look" })).toHaveAttribute("aria-selected", "true");
  await page.keyboard.press("ArrowLeft");
  await expect(page.getByRole("tab", { name: "Body" })).toHaveAttribute("aria-selected", "true");
  await tabTo(page, page.getByRole("radio", { name: "Still" }));
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("radio", { name: "Animated" })).toBeChecked();
  await page.keyboard.press("Control+z");
  await expect(page.getByRole("radio", { name: "Free" })).toBeChecked();

  // Playing and scrubbing.
  await tabTo(page, page.getByRole("button", { name: "Play", exact: true }));
  await page.keyboard.press("Enter");
  await computed(page);
  await page.keyboard.press("Enter");
  const ruler = page.getByRole("slider", { name: "Frame", exact: true });
  await tabTo(page, ruler);
  await page.keyboard.press("Home");
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("ArrowRight");
  await expect(ruler).toHaveAttribute("aria-valuenow", "3");
  await page.keyboard.press("Shift+K");
  await expect(page.getByText("Run kept. It is under Runs.")).toBeVisible();

  // Rendering, and the film taken away.
  await page.keyboard.press("Shift+R");
  const render = page.getByRole("dialog", { name: "Render" });
  await tabTo(page, render.getByRole("radio", { name: "Still" }));
  await page.keyboard.press("ArrowRight");
  await page.keyboard.press("Enter");
  await expect(render.getByRole("radio", { name: "Draft film" })).toBeChecked();
  await typeInto(page, render.getByRole("textbox", { name: "Samples, a pixel" }), "1");
  await tabTo(page, render.getByRole("button", { name: "Begin" }));
  await page.keyboard.press("Enter");
  const movie = page.getByRole("link", { name: "MP4" });
  await expect(movie).toBeVisible({ timeout: 60_000 });
  const coming = page.waitForEvent("download");
  await tabTo(page, movie);
  await page.keyboard.press("Enter");
  const bytes = readFileSync(await (await coming).path());
  expect(bytes.subarray(4, 8).toString()).toBe("ftyp");
});

test("menus and marks are worked by keys", async ({ page }) => {
  await newShot(page, server.address, { name: "Marks" });
  await page.goto(server.address);
  await tabTo(page, page.getByRole("link", { name: /Marks/ }));
  await page.keyboard.press("Enter");
  await drawn(page);
  await tabTo(page, page.getByRole("button", { name: "Add", exact: true }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("menuitem", { name: "Box", exact: true })).toBeFocused();
  await page.keyboard.press("ArrowDown");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue("Sphere");
  const timeline = page.getByRole("region", { name: "Timeline" });
  await tabTo(page, timeline.getByRole("button", { name: "Sphere", exact: true }));
  await page.keyboard.press("Tab");
  await page.keyboard.press("Tab");
  await page.keyboard.press("Enter");
  await expect(timeline.getByRole("button", { name: "Unlock Sphere" })).toHaveAttribute("aria-pressed", "true");
  await tabTo(page, page.getByRole("button", { name: "History" }));
  await page.keyboard.press("Enter");
  await tabTo(page, page.getByRole("textbox", { name: "Name this version" }));
  await page.keyboard.type("Locked");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("listitem").filter({ hasText: "Locked" }).first()).toContainText("now");
  await page.keyboard.press("Escape");
  await expect(page.getByRole("dialog")).toHaveCount(0);
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue("Sphere");
});
