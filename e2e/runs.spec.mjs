// Playing, stopping, keeping and comparing runs.
import { expect, test } from "./test.mjs";
import { add, computed, drawn, goTo, newShot, saved, select, stretches, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const play = (page) => page.getByRole("button", { name: "Play", exact: true }).click();
const pause = (page) => page.getByRole("button", { name: "Pause" }).click();

async function played(page) {
  await play(page);
  await computed(page);
  await pause(page);
}

/** Enough bodies and frames that computing takes a while. */
async function longShot(page, name) {
  await newShot(page, server.address, { name, last: 4000 });
  await add(page, "Plane");
  await add(page, "Grid of boxes");
  await tab(page, "Shape");
  await type(page, "Number y", "60");
}

test("runs are kept, named, compared as ghosts, restored and dropped", async ({ page }) => {
  await newShot(page, server.address, { name: "Kept" });
  await add(page, "Plane");
  await add(page, "Box");
  await played(page);
  await page.getByRole("button", { name: "Keep run" }).click();
  await tab(page, "Body");
  await type(page, "Friction", "0.9");
  await type(page, "Bounce", "0.8");
  await saved(page, "Bounce of Box");
  await expect(stretches(page).first()).toHaveAttribute("data-state", "stale");
  await played(page);
  await page.getByRole("button", { name: "Keep run" }).click();

  await page.getByRole("link", { name: "Runs" }).click();
  const kept = page.getByRole("listitem");
  await expect(kept).toHaveCount(2);
  await expect(kept.nth(1)).toContainText(/24 frames · \d+ kB · kept just now/);
  const differing = kept.nth(1).getByRole("row");
  await expect(differing.nth(1)).toHaveText(/friction of Box\s*0\.5\s*0\.9/);
  await expect(differing.nth(2)).toHaveText(/bounce of Box\s*0\.2\s*0\.8/);
  await expect(kept.nth(0)).toContainText("Computed from the shot as it is");
  await expect(kept.nth(0).getByRole("img", { name: /Fastest body over frames 1 to 24/ })).toBeVisible();
  await kept.nth(1).getByRole("textbox").fill("Slippery");
  await kept.nth(1).getByRole("textbox").press("Enter");
  await page.reload();
  await expect(page.getByRole("textbox", { name: "Name of run 1" })).toHaveValue("Slippery");

  await kept.nth(1).getByRole("button", { name: "Show as ghost" }).click();
  await drawn(page);
  await page.getByRole("link", { name: "Runs" }).click();
  await expect(kept.nth(1).getByRole("button", { name: "Hide ghost" })).toBeVisible();

  await kept.nth(1).getByRole("button", { name: "Restore the shot" }).click();
  await expect(kept.nth(1)).toContainText("Computed from the shot as it is");
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /Restored from Slippery/);

  await kept.nth(0).getByRole("button", { name: "Drop" }).click();
  await page.getByRole("alertdialog").getByRole("button", { name: "Keep it" }).click();
  await expect(kept).toHaveCount(2);
  await kept.nth(0).getByRole("button", { name: "Drop" }).click();
  await page.getByRole("alertdialog").getByRole("button", { name: "Drop" }).click();
  await expect(kept).toHaveCount(1);
});

test("two runs are played side by side, and measured over each other", async ({ page }) => {
  await newShot(page, server.address, { name: "Beside" });
  await add(page, "Plane");
  await add(page, "Box");
  await played(page);
  await page.getByRole("button", { name: "Keep run" }).click();
  await page.getByRole("link", { name: "Runs" }).click();
  await expect(page.getByRole("button", { name: "Choose two to play side by side" })).toBeDisabled();
  await page.getByRole("checkbox", { name: "Play the current run beside another run" }).check();
  await page.getByRole("checkbox", { name: "Play run 1 beside another run" }).check();
  await page.getByRole("combobox", { name: "Plotted" }).click();
  await page.getByRole("option", { name: "Contacts" }).click();
  await expect(page.getByRole("img", { name: /Contacts over frames/ })).toHaveCount(2);
  await page.getByRole("button", { name: "Play the two side by side" }).click();
  const beside = page.getByRole("dialog");
  await expect(beside.locator("canvas")).toHaveCount(2);
  await expect(beside.getByTestId("side-frame")).not.toHaveText("1");
  await beside.getByRole("button", { name: "Pause" }).click();
  await beside.getByRole("slider", { name: "Frame of both runs" }).fill("20");
  await expect(beside.getByTestId("side-frame")).toHaveText("20");
  await beside.getByRole("button", { name: "Close" }).click();
  await expect(beside).toHaveCount(0);
});

test("computing shows how far it is, stops, keeps its frames and goes on", async ({ page }) => {
  await longShot(page, "Stopped");
  await play(page);
  await expect(page.getByTestId("status")).toHaveText(/Computing frame \d+ of 4000 · .* left/);
  await expect(page.getByRole("status")).toContainText(/Computing \d+ of 4000/);
  await expect(stretches(page).first()).toHaveAttribute("data-state", "fresh");
  await page.getByRole("button", { name: "Stop", exact: true }).click();
  await expect(page.getByTestId("status")).toHaveText("Playing computes what is missing");
  const reached = async () => Number(await stretches(page).first().getAttribute("data-last"));
  const stopped = await reached();
  expect(stopped).toBeLessThan(4000);
  await play(page);
  await expect.poll(reached, { timeout: 60_000 }).toBeGreaterThan(stopped + 5);
  await page.getByRole("button", { name: "Stop: Computing" }).click();
  await expect(page.getByRole("status")).toHaveCount(0);
});

test("a change while frames are computed starts from the first stale frame", async ({ page }) => {
  await newShot(page, server.address, { name: "Changed", last: 120 });
  await add(page, "Plane");
  await add(page, "Box");
  await played(page);
  await page.keyboard.press("Escape");
  await type(page, "Last frame", "140");
  await expect(stretches(page).nth(0)).toHaveAttribute("data-last", "120");
  await expect(stretches(page).nth(1)).toHaveAttribute("data-state", "missing");
  await select(page, "Box");
  await tab(page, "Body");
  await type(page, "Bounce", "0.7");
  await expect(stretches(page).nth(0)).toHaveText("before bounce of Box changed");
  await play(page);
  await computed(page);
  await expect(stretches(page)).toHaveCount(1);
});

test("work on one shot is seen and stopped from another place", async ({ page }) => {
  await longShot(page, "Elsewhere");
  await play(page);
  await expect(page.getByRole("status")).toContainText("Computing");
  await page.getByRole("button", { name: "All shots" }).click();
  await expect(page.getByRole("status")).toContainText(/Computing Elsewhere \d+ of 4000/);
  await page.getByRole("button", { name: "Stop: Computing Elsewhere" }).click();
  await expect(page.getByRole("status")).toHaveCount(0);
});

test("dropping all frames leaves none", async ({ page }) => {
  await newShot(page, server.address, { name: "Cleared" });
  await add(page, "Plane");
  await add(page, "Box");
  await played(page);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Drop all frames" }).click();
  await expect(stretches(page)).toHaveCount(1);
  await expect(stretches(page).first()).toHaveAttribute("data-state", "missing");
});

test("a simulation that blows up says at which frame and by which body, and keeps the rest", async ({
  page,
}) => {
  await newShot(page, server.address, { name: "Blown" });
  await add(page, "Box");
  await select(page, "Gravity");
  await type(page, "Acceleration x", "1000");
  await type(page, "Acceleration y", "1000");
  await type(page, "Acceleration z", "1000");
  // Once out of the field, then out of the selection.
  await page.keyboard.press("Escape");
  await page.keyboard.press("Escape");
  await type(page, "Last frame", "60");
  await play(page);
  await expect(page.getByRole("alert")).toContainText(/Box .*over 2000 m\/s; try more substeps/);
  await expect(stretches(page).first()).toHaveAttribute("data-state", "fresh");
  await expect(stretches(page).last()).toHaveAttribute("data-state", "missing");
});

test("what a body did is plotted, and the loop and rate can be set", async ({ page }) => {
  await newShot(page, server.address, { name: "Plot" });
  await add(page, "Plane");
  await add(page, "Sphere");
  await tab(page, "Body");
  await played(page);
  await expect(page.getByRole("region", { name: "Measured in this run" })).toBeVisible();
  await goTo(page, 12, 1, 24);
  await expect(page.getByTestId("reading")).toHaveText(
    /frame 12 · computed · \d+ contacts · deepest overlap [\d.]+ mm · fastest Sphere, [\d.]+ m\/s · energy \d+ J/,
  );
  await page.getByRole("button", { name: "loops" }).click();
  await page.getByRole("button", { name: "×1" }).click();
  await expect(page.getByRole("button", { name: "×0.25" })).toBeVisible();
  await page.keyboard.press("0");
  await expect(page.getByTestId("frame")).toContainText("24 ");
});
