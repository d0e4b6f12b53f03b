// What deforms: its resolution and forecast, the cells that carry it, its waves, and particles on it.
import { expect, test } from "./test.mjs";
import {
  add,
  computed,
  elementOf,
  goTo,
  makeCloth,
  newShot,
  pick,
  saved,
  select,
  tab,
  type,
} from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

async function cloth(page) {
  await add(page, "Plane");
  await tab(page, "Placement");
  await type(page, "Place y", "2");
  await makeCloth(page);
  await page.getByRole("button", { name: "Add a pin" }).click();
  await saved(page, "Pin");
}

test("a cloth is raised in vertices with its forecast beside, and its waves are plotted", async ({
  page,
}) => {
  await newShot(page, server.address, { name: "Raised", last: 12 });
  await cloth(page);
  const vertices = page.getByRole("textbox", { name: "Vertices", exact: true });
  await vertices.fill("200");
  await page.keyboard.press("Enter");
  await saved(page, "Resolution");
  const now = async () => Number((await vertices.inputValue()).replaceAll(/\D/g, ""));
  await expect.poll(now).toBeLessThan(300);
  await expect(page.getByTestId("forecast-of-mesh")).toContainText(/About .* a frame, .* in all/);
  const before = (await elementOf(page, "Plane")).kind.solid.cloth;
  expect(before.pins).toHaveLength(1);
  await vertices.fill("800");
  await page.keyboard.press("Enter");
  await expect.poll(now).toBeGreaterThan(600);
  const after = (await elementOf(page, "Plane")).kind.solid.cloth;
  expect(after.edge_m / before.edge_m).toBeCloseTo(0.5, 1);
  expect(after.pins).toEqual(before.pins);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await expect(page.getByRole("img", { name: /Plot over frames: waves/ })).toBeVisible();
});

test("the cells of a soft body are shown on request", async ({ page }) => {
  await newShot(page, server.address, { name: "Cells", last: 4 });
  await add(page, "Sphere");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Free", exact: true }).click();
  await page.getByRole("radio", { name: "Soft", exact: true }).click();
  await saved(page, "Soft body");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  const asked = page.waitForResponse((response) => /interior\/\d+\/\d+/.test(response.url()));
  await page.getByRole("button", { name: "Show the cells" }).click();
  const points = new Float32Array((await (await asked).body()).buffer.slice(0));
  expect(points.length % 6).toBe(0);
  expect(points.length).toBeGreaterThan(6 * 12);
  await page.getByRole("button", { name: "Hide the cells" }).click();
});

test("particles are born on a cloth by what is measured on it, by its map, and along a curve", async ({
  page,
}) => {
  await newShot(page, server.address, { name: "Beads", last: 8 });
  await cloth(page);
  await page.getByRole("button", { name: "Add a map" }).click();
  await saved(page, "Map");
  await add(page, "Line");
  await add(page, "Particles");
  await tab(page, "Births");
  const of = async () => (await elementOf(page, "Particles")).kind.particles;
  await pick(page, "Born on", "Plane");
  await saved(page, "Source");
  await pick(page, "Map", "stretch");
  await expect.poll(async () => (await of()).emission?.map?.source.quantity?.quantity).toBe("stretch");
  await type(page, "Whole at, %", "4");
  await expect.poll(async () => (await of()).emission.map.source.quantity.to).toBeCloseTo(0.04);
  await pick(page, "Map", "map Map");
  await expect.poll(async () => (await of()).emission.map.source).toEqual({ map: { map: "Map" } });
  // A map that gets another name keeps it in the births.
  await select(page, "Plane");
  await tab(page, "Body");
  await page.getByRole("textbox", { name: "Name of map 1" }).fill("Wet side");
  await page.keyboard.press("Enter");
  await expect.poll(async () => (await of()).emission.map.source).toEqual({ map: { map: "Wet side" } });
  await select(page, "Particles");
  await tab(page, "Births");
  await pick(page, "Born on", "a curve laid on Plane");
  await expect.poll(async () => (await of()).source.seam?.starts).toBe(1);
  expect((await of()).emission.map ?? null).toBeNull();
  await type(page, "Lifted", "1");
  await expect.poll(async () => (await of()).source.seam.lift).toBe(1);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
});

test("a cloth rests in the shape that it had at a frame, and keeps its pins", async ({ page }) => {
  await newShot(page, server.address, { name: "Hung", last: 12 });
  await cloth(page);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await goTo(page, 12, 1, 12);
  await tab(page, "Shape");
  const before = await elementOf(page, "Plane");
  await page.getByRole("button", { name: "Let it rest like this" }).click();
  const after = () => elementOf(page, "Plane");
  await expect.poll(async () => (await after()).kind.solid.shape.mesh?.asset).toContain("Plane");
  const { kind, placement } = await after();
  expect(kind.solid.cloth).toEqual(before.kind.solid.cloth);
  expect(placement.position_m[1]).toBeLessThan(before.placement.position_m[1]);
  // It goes on from there.
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
});
