// Every main view by keyboard and for assistive technology.
import AxeBuilder from "@axe-core/playwright";
import { expect, test } from "@playwright/test";
import { open } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start("--demo");
});
test.afterAll(() => server.end());

async function sound(page) {
  const { violations } = await new AxeBuilder({ page }).exclude("canvas").analyze();
  const serious = violations.filter((v) => v.impact === "serious" || v.impact === "critical");
  expect(serious.map((v) => [v.id, v.nodes.map((n) => n.html.slice(0, 160))])).toEqual([]);
}

test("no serious finding on any main view", async ({ page }) => {
  await page.goto(server.address);
  await expect(page.getByRole("link", { name: /Crate tumble/ })).toBeVisible();
  await sound(page);
  await open(page, server.address, "Crate tumble");
  await page.getByRole("button", { name: "Crate stack", exact: true }).click();
  for (const tab of ["Shape", "Body", "Look", "Placement"]) {
    await page.getByRole("tab", { name: tab }).click();
    await sound(page);
  }
  for (const view of ["Runs", "Dailies"]) {
    await page.getByRole("link", { name: view }).click();
    await sound(page);
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
