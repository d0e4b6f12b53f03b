// Every main view by keyboard and for assistive technology.
import AxeBuilder from "@axe-core/playwright";
import { expect, test } from "./test.mjs";
import { add, newShot, open } from "./desk.mjs";
import { Server } from "./server.mjs";

// A walk through everything takes minutes on a busy machine.
test.describe.configure({ timeout: 420_000 });
test.use({ drawnPixels: 0.25 });

let server;
test.beforeAll(async () => {
  server = await new Server().start("--demo");
});
test.afterAll(() => server.end());

/** Axe finds nothing, of any severity, on the page or within a part of it. */
async function sound(page, state, within = "body") {
  const { violations } = await new AxeBuilder({ page }).include(within).exclude("canvas").analyze();
  const found = violations.map((v) => [v.impact, v.id, v.nodes.map((n) => n.html.slice(0, 200))]);
  expect(found, state).toEqual([]);
}

for (const theme of ["dusk", "day"])
  test(`no finding on any view, for any kind of element, in the ${theme} theme`, async ({ page }) => {
    await page.addInitScript((theme) => localStorage.setItem("theme", theme), theme);
    await page.goto(server.address);
    await expect(page.getByRole("link", { name: /Crate tumble/ })).toBeVisible();
    await sound(page, "Home");
    await newShot(page, server.address, { name: `Every kind, ${theme}` });
    await sound(page, "the shot");
    for (const name of ["Box", "Particles", "Wind", "Box region", "Line", "Area light"]) {
      await add(page, name);
      await sound(page, name);
      for (const of of await page.getByRole("tab").allTextContents()) {
        await page.getByRole("tab", { name: of, exact: true }).click();
        await sound(page, `${name}, ${of}`, "aside");
      }
    }
    for (const name of ["Camera", "Sun", "Sky"]) {
      await page.getByRole("region", { name: "Timeline" }).getByRole("button", { name, exact: true }).click();
      await sound(page, name);
    }
    await page.getByRole("button", { name: "Render…" }).click();
    await sound(page, "the render dialog");
    await page.keyboard.press("Escape");
    for (const view of ["Runs", "Dailies"]) {
      await page.getByRole("link", { name: view }).click();
      await sound(page, view);
    }
  });

test("the keyboard alone finds, adds, plays and undoes", async ({ page }) => {
  await open(page, server.address, "Crate tumble");
  await page.keyboard.press("Control+j");
  await expect(page.getByRole("combobox", { name: "Find a command" })).toBeFocused();
  await page.keyboard.type("add cone");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue("Cone");
  await expect(page.getByRole("dialog")).toHaveCount(0);
  await page.keyboard.press("Control+z");
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveCount(0);
  await page.keyboard.press(".");
  await expect(page.getByTestId("frame")).toContainText("2 ");
  await page.keyboard.press("Enter");
  await expect(page.getByRole("button", { name: "Pause" })).toBeVisible();
});
