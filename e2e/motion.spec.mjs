// Keys, curves, formulas, forces and regions.
import { expect, test } from "./test.mjs";
import { add, computed, front, goTo, inFront, newShot, saved, select, shown, stretches, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const timeline = (page) => page.getByRole("region", { name: "Timeline" });
const keysOf = (page, name) => timeline(page).getByRole("button", { name: new RegExp(`^Key of ${name} at frame`) });
const field = (page, name) => page.getByRole("textbox", { name, exact: true });

/** A ball above a floor. */
async function ball(page, name) {
  await newShot(page, server.address, { name });
  await add(page, "Plane");
  await add(page, "Sphere");
  await tab(page, "Body");
}

async function key(page, value, frame) {
  await goTo(page, frame, 1, 24);
  await page.getByRole("button", { name: `Key ${value} at frame ${frame}` }).click();
  await expect(page.getByRole("button", { name: `Remove the key of ${value} at frame ${frame}` })).toBeVisible();
}

/** Changes the chosen keys by the menu. */
async function change(page, name) {
  await page.getByRole("toolbar", { name: "Keys chosen" }).getByRole("button", { name: "Change" }).click();
  await page.getByRole("menuitem", { name }).click();
  await expect(page.getByRole("menu")).toHaveCount(0);
}

test("any value is keyed at a press, moved on the Timeline, and constant again without keys", async ({ page }) => {
  await ball(page, "Keyed");
  await key(page, "friction", 5);
  await goTo(page, 15, 1, 24);
  await type(page, "Friction", "0.9");
  await expect(keysOf(page, "Sphere")).toHaveCount(2);
  await goTo(page, 10, 1, 24);
  await expect(field(page, "Friction")).toHaveValue("0.7");

  // A frame later by the arrow key, and dragged.
  await keysOf(page, "Sphere").nth(1).press("ArrowRight");
  await expect(timeline(page).getByRole("button", { name: "Key of Sphere at frame 16" })).toBeVisible();
  const mark = await keysOf(page, "Sphere").nth(1).boundingBox();
  await page.mouse.move(mark.x + 6, mark.y + 6);
  await page.mouse.down();
  await page.mouse.move(mark.x + 90, mark.y + 6, { steps: 4 });
  await page.mouse.up();
  const frame = async () => Number(await keysOf(page, "Sphere").nth(1).getAttribute("data-key"));
  await expect.poll(frame).toBeGreaterThan(17);

  await keysOf(page, "Sphere").first().press("Delete");
  await expect(keysOf(page, "Sphere")).toHaveCount(1);
  await keysOf(page, "Sphere").first().press("Delete");
  await expect(keysOf(page, "Sphere")).toHaveCount(0);
  await expect(field(page, "Friction")).toHaveValue("0.9");
});

test("keys are boxed, mirrored, repeated, copied and pasted", async ({ page }) => {
  await ball(page, "Boxed");
  await tab(page, "Placement");
  await key(page, "place", 2);
  await goTo(page, 6, 1, 24);
  await type(page, "Place x", "2");
  await expect(keysOf(page, "Sphere")).toHaveCount(2);
  const [a, b] = [await keysOf(page, "Sphere").first().boundingBox(), await keysOf(page, "Sphere").nth(1).boundingBox()];
  await page.keyboard.down("Shift");
  await page.mouse.move(a.x - 8, a.y - 3);
  await page.mouse.down();
  await page.mouse.move(b.x + 18, b.y + 14, { steps: 4 });
  await page.mouse.up();
  await page.keyboard.up("Shift");
  const tools = page.getByRole("toolbar", { name: "Keys chosen" });
  await expect(tools).toContainText("2 keys");
  await change(page, "Mirror");
  await saved(page, "mirrored");
  await goTo(page, 2, 1, 24);
  await expect(field(page, "Place x")).toHaveValue("2");
  await keysOf(page, "Sphere").first().click();
  await keysOf(page, "Sphere").nth(1).click({ modifiers: ["Shift"] });
  await change(page, "Repeat");
  await expect(keysOf(page, "Sphere")).toHaveCount(3);
  await keysOf(page, "Sphere").first().click();
  await change(page, "Copy");
  await goTo(page, 20, 1, 24);
  await page.keyboard.press("Shift+V");
  await expect(timeline(page).getByRole("button", { name: "Key of Sphere at frame 20" })).toBeVisible();
});

test("a curve lane opens, and a key dragged in it changes frame and value at once", async ({ page }) => {
  await ball(page, "Curves");
  await key(page, "friction", 3);
  await goTo(page, 20, 1, 24);
  await type(page, "Friction", "0.1");
  await timeline(page).getByRole("button", { name: "Open the curves of Sphere" }).click();
  const point = timeline(page).locator("circle[data-key-frame='20']");
  const box = await point.boundingBox();
  await page.mouse.move(box.x + 4, box.y + 4);
  await page.mouse.down();
  await page.mouse.move(box.x - 60, box.y - 25, { steps: 5 });
  await page.mouse.up();
  await saved(page, "Friction keyed");
  await expect(point).toHaveCount(0);
  const value = page.getByRole("textbox", { name: "Friction at this key" });
  await expect(value).toBeVisible();
  expect(Number(await value.inputValue())).toBeGreaterThan(0.15);
  await type(page, "Frame of this friction key", "12");
  await expect(timeline(page).locator("circle[data-key-frame='12']")).toBeVisible();
});

test("a formula that is wrong says where and stays in the field; mended it acts", async ({ page }) => {
  await ball(page, "Formula");
  await field(page, "Bounce").fill("= 0.5 + 0.1 * sine(time)");
  const note = page.getByRole("alert").filter({ hasText: "sine" });
  await expect(note).toContainText("at character 13: sine is not known here");
  await field(page, "Bounce").press("Enter");
  await expect(field(page, "Bounce")).toHaveValue("= 0.5 + 0.1 * sine(time)");
  await field(page, "Bounce").fill("= 0.5 + 0.1 * sin(time)");
  await expect(note).toHaveCount(0);
  await field(page, "Bounce").press("Enter");
  await saved(page, "Formula for bounce of Sphere");
  await expect(page.getByText("gives 0.5 at this frame")).toBeVisible();
  await page.reload();
  await select(page, "Sphere");
  await expect(field(page, "Bounce")).toHaveValue("= 0.5 + 0.1 * sin(time)");
  await type(page, "Bounce", "0.3");
  await expect(field(page, "Bounce")).toHaveValue("0.3");
});

test("a wind bounded by a region and a span leaves what comes before it fresh", async ({ page }) => {
  await ball(page, "Squall");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await add(page, "Sphere region");
  await add(page, "Wind");
  await type(page, "From frame", "10");
  await expect(stretches(page).first()).toHaveAttribute("data-last", "10");
  await expect(stretches(page).nth(1)).toHaveAttribute("title", /before/);
  await page.getByLabel("Region", { exact: true }).click();
  await page.getByRole("option", { name: "Sphere region" }).click();
  await saved(page, "Region of Wind");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await select(page, "Sphere");
  await tab(page, "Body");
  await goTo(page, 12, 1, 24);
  await expect(page.getByRole("row", { name: /Wind/ })).toContainText("N");
});

test("the probe and the tracer dots ask what forces do, and stop asking", async ({ page }) => {
  await ball(page, "Probe");
  await add(page, "Vortex");
  const asked = page.waitForRequest(/\/probe$/);
  await page.getByRole("button", { name: "Show what forces do" }).click();
  await asked;
  await page.getByRole("button", { name: "Show what forces do" }).click();
  const carried = page.waitForRequest(/\/probe$/);
  await page.getByRole("button", { name: "Show tracer dots" }).click();
  await carried;
  await expect(page.getByRole("button", { name: "Show tracer dots" })).toHaveAttribute("aria-pressed", "true");
});

test("a body waits until its frame, and time can be slowed by keys", async ({ page }) => {
  await ball(page, "Waiting");
  await page.getByLabel("Wake", { exact: true }).click();
  await page.getByRole("option", { name: "at a frame" }).click();
  await type(page, "Wakes at, frame", "12");
  await expect(timeline(page)).toContainText("wake");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await page.keyboard.press("Escape");
  await key(page, "time scale", 14);
  await goTo(page, 20, 1, 24);
  await type(page, "Time scale", "0.25");
  await expect(stretches(page).first()).toHaveAttribute("data-last", "14");
});

test("an element is attached where it stands, and set free again", async ({ page }) => {
  await ball(page, "Attached");
  await add(page, "Box");
  await tab(page, "Placement");
  await type(page, "Place x", "3");
  await saved(page, "Place x of Box");
  await page.getByLabel("Attached to").click();
  await page.getByRole("option", { name: "Sphere" }).click();
  await saved(page, "Box attached");
  // One metre up is where the sphere is: relative to it, the box stands beside.
  await expect(field(page, "Place x")).toHaveValue("3");
  await expect(field(page, "Place y")).toHaveValue("0");
  await page.getByLabel("Attached to").click();
  await page.getByRole("option", { name: "nothing" }).click();
  await saved(page, "Box set free");
  await expect(field(page, "Place y")).toHaveValue("1");
});

test("a turntable goes round what is selected, and its camera renders", async ({ page }) => {
  await ball(page, "Turntable");
  await page.keyboard.press("Control+j");
  await page.keyboard.type("turntable");
  await page.keyboard.press("Enter");
  await saved(page, "Turntable added");
  await expect(field(page, "Name")).toHaveValue("Turntable camera");
  await expect(page.getByText("This camera renders.")).toBeVisible();
  await expect(keysOf(page, "Turntable camera").first()).toBeVisible();
  await expect(page.getByLabel("Aimed at")).toHaveText(/Turntable/);
});

test("a curve gets points, and a body rides along it by keys", async ({ page }) => {
  await ball(page, "Rail");
  await add(page, "Line");
  await page.getByRole("button", { name: "Add a point" }).click();
  await saved(page, "Points of Line");
  await expect(page.getByText("4 points")).toBeVisible();
  await select(page, "Sphere");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Animated" }).click();
  await tab(page, "Placement");
  await page.getByRole("checkbox", { name: "It stays where it is" }).uncheck();
  await page.getByLabel("Attached to").click();
  await page.getByRole("option", { name: "Line" }).click();
  await saved(page, "Sphere attached");
  await type(page, "Along the curve", "0");
  await key(page, "along the curve", 2);
  await goTo(page, 20, 1, 24);
  await type(page, "Along the curve", "1");
  await goTo(page, 11, 1, 24);
  await expect(field(page, "Along the curve")).toHaveValue("0.5");
});

test("a force without anything to act on is on the Check list", async ({ page }) => {
  await ball(page, "Idle");
  await add(page, "Wind");
  await type(page, "From frame", "400");
  await page.getByRole("button", { name: /to check/ }).click();
  await expect(page.getByText("Wind acts only outside the shot's frames.")).toBeVisible();
});

test("what is dragged while the shot plays becomes a few keys, in one change", async ({ page }) => {
  // Twenty seconds, so that a slow machine gets through before the shot ends.
  await newShot(page, server.address, { name: "Performed", last: 480 });
  await add(page, "Plane");
  await add(page, "Box");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Animated" }).click();
  await expect(page.getByRole("radio", { name: "Animated" })).toBeChecked();
  await shown(page);
  await front(page);
  const perform = page.getByRole("button", { name: "Perform", exact: true });
  await perform.click();
  await expect(page.getByTestId("performing")).toContainText("Box: play, then drag it in the Viewport");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await expect(page.getByText("Drag Box now")).toBeVisible();
  await page.mouse.move(...(await inFront(page, 0.12, 0.88)));
  await page.mouse.down();
  const start = Date.now();
  for (let s = 0; s < 3; s = (Date.now() - start) / 1000)
    await page.mouse.move(...(await inFront(page, 0.12 + 0.2 * s, 0.88 + 0.12 * Math.sin(1.5 * s))));
  await page.mouse.up();
  await expect(page.getByTestId("performing")).toHaveText("Performing 1 value");

  // Turned by hand as well, and a slider.
  await page.keyboard.press("t");
  await page.mouse.down();
  for (let i = 1; i <= 10; i++) await page.mouse.move(...(await inFront(page, 0.72 + 0.05 * i, 0.9)));
  await page.mouse.up();
  await expect(page.getByTestId("performing")).toHaveText("Performing 2 values");
  const bounce = page.getByRole("slider", { name: "Bounce" });
  await bounce.focus();
  for (let i = 0; i < 4; i++) await bounce.press("ArrowRight");
  await expect(page.getByTestId("performing")).toHaveText("Performing 3 values");
  await page.getByRole("button", { name: "Stop", exact: true }).first().click();
  await saved(page, "Performed .*place of Box");
  const told = await page.getByText(/^Performed .* keys for \d+ samples/).textContent();
  const [, keys, samples] = /(\d+) keys for (\d+) samples/.exec(told).map(Number);
  expect(keys).toBeLessThan(samples / 2);
  expect(await keysOf(page, "Box").count()).toBeGreaterThan(2);

  await page.getByRole("button", { name: "Undo" }).click();
  await expect(keysOf(page, "Box")).toHaveCount(0);
  await page.getByRole("button", { name: "Redo" }).click();
  await expect(keysOf(page, "Box")).not.toHaveCount(0);
});

test("a curve is drawn in the Viewport by clicks, and its points are dragged", async ({ page }) => {
  await newShot(page, server.address, { name: "Drawn" });
  await add(page, "Line");
  await front(page);
  await page.getByRole("button", { name: "Draw in the Viewport" }).click();
  for (const [x, y] of [[-1.5, 0.2], [-0.5, 1.5], [0.5, 0.5], [1.5, 1.8]]) {
    await page.mouse.click(...(await inFront(page, x, y)));
  }
  await expect(page.getByText("4 points so far")).toBeVisible();
  await page.getByRole("button", { name: "Finish", exact: true }).click();
  await saved(page, "Points of Line");
  await expect(field(page, "Point 4 x")).toHaveValue(/^1\.(49|5)/);

  await page.mouse.move(...(await inFront(page, 1.5, 1.8)));
  await page.mouse.down();
  await page.mouse.move(...(await inFront(page, 2, 1)), { steps: 4 });
  await page.mouse.up();
  await saved(page, "Point 4 of Line");
  await expect(field(page, "Point 4 x")).toHaveValue(/^(1\.99|2)/);

  await page.getByRole("button", { name: "Draw in the Viewport" }).click();
  await page.mouse.click(...(await inFront(page, 0, 1)));
  await page.getByRole("button", { name: "Give up" }).click();
  await expect(field(page, "Point 4 x")).toHaveValue(/^(1\.99|2)/);
});

test("letters and drawings become curves, and a stream follows one", async ({ page }) => {
  await newShot(page, server.address, { name: "Outlines" });
  await page.getByRole("button", { name: "Add", exact: true }).click();
  await page.getByRole("menuitem", { name: "Stream along a curve" }).click();
  await expect(page.getByText("A stream needs a curve to follow.")).toBeVisible();

  await add(page, "Text");
  await page.getByRole("textbox", { name: "Words" }).fill("Ebb");
  await page.getByRole("textbox", { name: "Words" }).blur();
  await saved(page, "Letters of Text");
  await expect(page.getByText("5 strokes")).toBeVisible();

  const svg = '<svg xmlns="http://www.w3.org/2000/svg"><path d="M0 0 C30 60 60 -60 90 0"/></svg>';
  await page.getByLabel("File to take in").setInputFiles({
    name: "swell.svg",
    mimeType: "image/svg+xml",
    buffer: Buffer.from(svg),
  });
  await saved(page, "swell added");
  await expect(field(page, "Longer side, m")).toHaveValue("1");
  await type(page, "Longer side, m", "3");
  await saved(page, "Size of swell");

  await add(page, "Stream along a curve");
  await expect(page.getByLabel("Curve", { exact: true })).toHaveText(/swell/);
});

test("a force acts on a group, and a size is keyed", async ({ page }) => {
  await ball(page, "Grouped");
  await tab(page, "Placement");
  await page.getByRole("textbox", { name: "Groups" }).fill("Cargo, Loose");
  await page.getByRole("textbox", { name: "Groups" }).blur();
  await saved(page, "Groups of Sphere");
  await tab(page, "Shape");
  await key(page, "radius", 4);
  await goTo(page, 12, 1, 24);
  await type(page, "Radius, m", "0.5");
  await expect(keysOf(page, "Sphere")).toHaveCount(2);
  await goTo(page, 8, 1, 24);
  await expect(field(page, "Radius, m")).toHaveValue("0.375");

  await add(page, "Wind");
  await page.getByRole("checkbox", { name: "Group Cargo" }).check();
  await saved(page, "What it acts on of Wind");
  await expect(page.getByRole("checkbox", { name: "Group Cargo" })).toBeChecked();
});
