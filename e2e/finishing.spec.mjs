// Finishing a run on the Timeline.
import { expect, test } from "./test.mjs";
import { add, computed, goTo, newShot, pick, saved, select, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

async function finish(page, name, forElement = false) {
  await page.getByRole("button", { name: "+ finish" }).click();
  const items = page.getByRole("menuitem", { name: new RegExp(`^${name} `) });
  await (forElement ? items.nth(1) : items.first()).click();
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue(new RegExp(name));
}

/** A box falls onto a plane. */
async function fallen(page, name) {
  await newShot(page, server.address, { name });
  await add(page, "Plane");
  await add(page, "Box");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
}

const timeline = (page) => page.getByRole("region", { name: "Timeline" });
const frame = (page) => page.getByTestId("frame");
const row = (page, words) => timeline(page).getByRole("button", { name: words, exact: true });

test("steps are added, changed, ordered, switched off and undone, and nothing is computed anew", async ({
  page,
}) => {
  await fallen(page, "Finished");

  await finish(page, "Retime");
  await expect(page.getByTestId("gives")).toHaveText("Gives 47 frames, 1–47.");
  await expect(frame(page)).toContainText("/ 47 of 24 computed");
  await expect(row(page, "slow to a half")).toBeVisible();
  await page.getByRole("button", { name: "All backwards" }).click();
  await saved(page, "Retime at one speed");
  await expect(row(page, "backwards")).toBeVisible();
  await expect(page.getByTestId("gives")).toHaveText("Gives 24 frames, 1–24.");

  // The last frame of the run, where the box lies, comes first.
  await page.keyboard.press("1");
  await expect(page.getByTestId("reading")).toHaveText("frame 1 · finished");

  await finish(page, "Trim");
  await type(page, "To frame", "12");
  await expect(page.getByTestId("gives")).toHaveText("Gives 12 frames, 1–12.");
  await expect(frame(page)).toContainText("/ 12 of 24 computed");

  // Taken first, the trim cuts what is then shown backwards.
  await row(page, "trim 1–12").hover();
  await page.getByRole("button", { name: /^Order of Trim/ }).press("ArrowUp");
  await saved(page, "Trim moved");
  await row(page, "backwards").click();
  await expect(page.getByTestId("gives")).toHaveText("Gives 24 frames, 1–24.");

  await row(page, "trim 1–12").hover();
  await page.getByRole("button", { name: "Switch off Trim" }).click();
  await saved(page, "Trim off");
  await row(page, "backwards").hover();
  await page.getByRole("button", { name: "Switch off Retime" }).click();
  await expect(frame(page)).toContainText("/ 24");
  await expect(page.getByTestId("status")).toHaveText("All frames are computed");
});

test("a loop tells its seam and offers better ones, and one that is too long says so", async ({ page }) => {
  await fallen(page, "Looped");
  await finish(page, "Loop");
  await expect(page.getByTestId("gives")).toHaveText("Gives 18 frames, 1–18; frame 19 would be frame 1.");
  await expect(page.getByTestId("seam")).toContainText("before it is blended");
  await expect(page.getByText("Not back where it began: Box.")).toBeVisible();
  const offers = page.getByRole("list", { name: "Loops offered" }).getByRole("button");
  await expect(offers).not.toHaveCount(0);
  await offers.first().click();
  await saved(page, "Loop of Loop");
  await type(page, "Frames", "60");
  await expect(page.getByText(/Not taken: this step needs frames/)).toBeVisible();
  await expect(timeline(page).getByRole("button", { name: /^not taken: needs frames/ })).toBeVisible();
  await expect(frame(page)).toContainText("/ 24");
});

test("one element is finished by itself, and its row is below the element", async ({ page }) => {
  await fallen(page, "One of two");
  await select(page, "Box");
  await finish(page, "Reverse", true);
  await expect(page.getByRole("combobox", { name: "Frames of" })).toHaveText("Box");
  await finish(page, "Place");
  await tab(page, "Placement");
  await type(page, "Place x", "1.5");
  await saved(page, "Place");
  await expect(row(page, "place")).toBeVisible();
});

test("a box falls five times side by side, each time later and of another size", async ({ page }) => {
  await fallen(page, "Fall in turn");
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const vertices = async (frame) => {
    const path = `${server.address}/api/shots/${id}/meshes/obj?first=${frame}&last=${frame}`;
    return (await (await page.request.get(path)).text()).split("\n").filter((line) => line.startsWith("v ")).length;
  };
  const before = await vertices(12);
  await select(page, "Box");
  await finish(page, "Copies", true);
  await expect(row(page, "5 copies, each 6 later")).toBeVisible();
  await type(page, "Each later by, frames", "-3");
  await expect(row(page, "5 copies, each 3 earlier")).toBeVisible();
  await type(page, "± size", "0.4");
  await saved(page, "± size");
  await expect(page.getByTestId("gives")).toHaveText("Gives 24 frames, 1–24.");
  const after = await vertices(12);
  const plane = (5 * before - after) / 4;
  expect(Number.isInteger(plane) && plane > 0 && plane < before).toBe(true);
  await pick(page, "Frames of", "the whole shot");
  // The change is on its way when the field shows it.
  await expect.poll(() => vertices(12)).toBe(5 * before);
  await type(page, "Number x", "2");
  await expect(row(page, "2 copies, each 3 earlier")).toBeVisible();
  await expect.poll(() => vertices(12)).toBe(2 * before);
});

test("a box is refined, thickened and taken as a mesh of its own", async ({ page }) => {
  await fallen(page, "Surface");
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const faces = async () => {
    const path = `${server.address}/api/shots/${id}/meshes/obj?first=24&last=24`;
    return (await (await page.request.get(path)).text()).split("\n").filter((line) => line.startsWith("f ")).length;
  };
  const before = await faces();
  await select(page, "Box");
  await finish(page, "Subdivide", true);
  await expect(row(page, "subdivide 2 ×")).toBeVisible();
  await type(page, "Levels", "3");
  await expect(row(page, "subdivide 3 ×")).toBeVisible();
  // All but the two triangles of the plane.
  expect(await faces()).toBe((before - 2) * 64 + 2);
  await pick(page, "Sharp edges", "the border of a group");
  await expect(page.getByText(/Not taken: this step creases by crease/)).toBeVisible();
  await pick(page, "Sharp edges", "by their angle");
  await expect(page.getByText(/Not taken/)).toBeHidden();
  await goTo(page, 24, 1, 24);
  await select(page, "Box");
  await tab(page, "Shape");
  await page.getByRole("button", { name: "Make a mesh of it" }).click();
  await saved(page, "Box 24.obj taken in");
});
