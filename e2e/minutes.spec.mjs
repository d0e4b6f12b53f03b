// The README's five minutes, by the keyboard alone.
import { computed, drawn, saved, shown, stretches } from "./desk.mjs";
import { Server } from "./server.mjs";
import { expect, test } from "./test.mjs";

// A walk through everything takes minutes on a busy machine.
test.describe.configure({ timeout: 420_000 });

let server;
test.beforeAll(async () => {
  server = await new Server().start("--demo");
});
test.afterAll(() => server.end());

/** Does what the finder finds first by some words. */
async function find(page, words) {
  await page.keyboard.press("Control+j");
  await expect(page.getByRole("combobox", { name: "Find a command" })).toBeFocused();
  await page.keyboard.type(words);
  await page.keyboard.press("Enter");
  await expect(page.getByRole("combobox", { name: "Find a command" })).toHaveCount(0);
}

/** Goes on with the Tab key until what has the focus answers to a role and a name. */
async function tabTo(page, locator) {
  for (let i = 0; i < 300; i++) {
    if (await locator.evaluateAll((all) => all.some((of) => of === document.activeElement))) return;
    await page.keyboard.press("Tab");
  }
  throw new Error(`the Tab key does not come to ${locator}`);
}

/** Leaves a field, so that keys are commands. */
const leave = (page) => page.keyboard.press("Escape");
const field = (page, name) => page.getByRole("textbox", { name, exact: true });

test("all of Five minutes", async ({ page }) => {
  await page.goto(server.address);
  await tabTo(page, page.getByRole("link", { name: /Crate tumble/ }));
  await page.keyboard.press("Enter");
  await drawn(page);
  // 1. Play.
  await page.keyboard.press("Enter");
  await computed(page);
  await page.keyboard.press("Enter");
  await expect(page.getByRole("button", { name: "Play", exact: true })).toBeVisible();
  // 2. Step.
  await page.keyboard.press("1");
  await expect(page.getByTestId("frame")).toHaveText(/^1 /);
  await page.keyboard.press(".");
  await expect(page.getByTestId("frame")).toHaveText(/^2 /);
  // 3. Change one number.
  await find(page, "friction crate stack");
  await expect(field(page, "Friction")).toBeFocused();
  await page.keyboard.press("Control+a");
  await page.keyboard.type("0.9");
  await page.keyboard.press("Enter");
  await saved(page, "Friction of Crate stack");
  await expect(stretches(page).first()).toHaveAttribute("data-state", "stale");
  await leave(page);
  await page.keyboard.press("Enter");
  await computed(page);
  await page.keyboard.press("Enter");
  // 4. Keep the run, and look at it.
  await page.keyboard.press("Shift+K");
  await expect(page.getByText("Run kept.")).toBeVisible();
  await find(page, "open the runs");
  await expect(page.getByRole("listitem").first()).toContainText("Computed from the shot as it is");
  await find(page, "open the desk");
  // 5. and 6. Add, and put down.
  await find(page, "add sphere");
  await expect(field(page, "Name")).toHaveValue("Sphere");
  await shown(page);
  await page.keyboard.press("Shift+D");
  await saved(page, "Sphere dropped");
  // 7. Key.
  await find(page, "friction sphere");
  await expect(field(page, "Friction")).toBeFocused();
  await page.keyboard.press("k");
  await saved(page, "Friction keyed of Sphere");
  await expect(page.locator("[data-thread=Friction] [data-knot]")).toHaveCount(1);
  // 8. Follow a formula.
  await find(page, "bounce sphere");
  await expect(field(page, "Bounce")).toBeFocused();
  await page.keyboard.press("Control+a");
  await page.keyboard.type("= 0.5 + 0.2 * noise(time)");
  await page.keyboard.press("Enter");
  await saved(page, "Formula for bounce");
  await expect(page.locator("[data-thread=Bounce]")).toHaveAttribute("data-how", "formula");
  await leave(page);
  // 9. Wind, and what it does; at a quarter of the speed, so that there is time to perform.
  await tabTo(page, page.getByRole("button", { name: "×1", exact: true }));
  await page.keyboard.press("Enter");
  await expect(page.getByRole("button", { name: "×0.25", exact: true })).toBeVisible();
  await find(page, "add wind");
  await expect(field(page, "Name")).toHaveValue("Wind");
  await page.keyboard.press("w");
  await expect(page.getByRole("button", { name: "Show what forces do" })).toHaveAttribute("aria-pressed", "true");
  await page.keyboard.press("w");
  // 10. Perform with a slider.
  await page.keyboard.press("Home");
  await page.keyboard.press("p");
  await page.keyboard.press("Enter");
  await tabTo(page, page.getByRole("slider", { name: "Strength" }));
  await expect(page.getByTestId("performing")).toHaveText(/now/, { timeout: 60_000 });
  for (let i = 0; i < 5; i++) await page.keyboard.press("ArrowRight");
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /erformed/, { timeout: 60_000 });
  // 12. Particles.
  await find(page, "add particles");
  await expect(page.getByRole("tab", { name: "Events" })).toBeVisible();
  // 14. Render.
  await leave(page);
  await page.keyboard.press("Shift+R");
  await expect(page.getByTestId("forecast")).toContainText("About", { timeout: 60_000 });
  for (const [name, value] of [["Width, px", "64"], ["Height, px", "36"], ["Samples, a pixel", "1"]]) {
    await tabTo(page, field(page, name));
    await page.keyboard.press("Control+a");
    await page.keyboard.type(value);
    await page.keyboard.press("Enter");
  }
  await tabTo(page, page.getByRole("button", { name: "Begin" }));
  await page.keyboard.press("Enter");
  await expect(page.getByTestId("film-frame")).toBeVisible({ timeout: 120_000 });
});
