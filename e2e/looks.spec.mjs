// Looks over looks, UVs, copies packed into another solid, and sway.
import { expect, test } from "./test.mjs";
import { add, computed, elementOf, makeCloth, newShot, pick, saved, shown, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const shotId = (page) => /shot\/(\d+)/.exec(page.url())[1];

test("a sheet is coloured where it bends, on the Viewport as in its picture", async ({ page }) => {
  await newShot(page, server.address, { name: "Bent", last: 12 });
  await add(page, "Plane");
  await tab(page, "Placement");
  await type(page, "Place y", "2");
  await makeCloth(page);
  await page.getByRole("button", { name: "Add a pin" }).click();
  await saved(page, "Pin");
  await type(page, "Edges, mm", "150");
  await saved(page, "Edges");
  await tab(page, "Look");
  await page.getByRole("button", { name: "Add a layer", exact: true }).click();
  await saved(page, "Layer");
  await pick(page, "What layer 1 shows by", "bend");
  await saved(page, "Layer");
  const layer = page.getByRole("group", { name: "Layer 1 of the look" });
  await expect(layer.getByRole("textbox", { name: "Begins at, 1/m" })).toHaveValue("4");
  await layer.getByRole("textbox", { name: "Whole at, 1/m" }).fill("6");
  await page.keyboard.press("Enter");
  await saved(page, "Whole at");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  const coloured = page.waitForResponse((response) => /albedo\/\d+\/\d+/.test(response.url()));
  await page.getByRole("button", { name: "Pause" }).click();
  const colours = new Float32Array((await (await coloured).body()).buffer.slice(0));
  expect(colours.length % 3).toBe(0);
  expect(colours.length).toBeGreaterThan(300);
  await shown(page);
  // The layer goes again, and is undone with the rest.
  await layer.getByRole("button", { name: "Remove layer 1 of the look" }).click();
  await expect.poll(async () => (await elementOf(page, "Plane")).kind.solid.look?.layers ?? []).toEqual([]);
});

test("copies are packed into a closed solid, and UVs are laid and measured", async ({ page }) => {
  await newShot(page, server.address, { name: "Packed", last: 4 });
  await add(page, "Sphere");
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("Bag");
  await page.keyboard.press("Enter");
  await tab(page, "Shape");
  await type(page, "Radius, m", "1");
  await saved(page, "Radius");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Still", exact: true }).click();
  await saved(page, "Movement");
  await add(page, "Box");
  await tab(page, "Shape");
  for (const axis of ["x", "y", "z"]) await type(page, `Size ${axis}`, "0.2");
  await saved(page, "Size");
  const packed = page.getByRole("group", { name: "Packed start" });
  await pick(page, "Packed into", "Bag");
  await packed.getByRole("textbox", { name: "Copies", exact: true }).fill("12");
  await page.keyboard.press("Enter");
  await packed.getByRole("button", { name: "Pack them" }).click();
  await saved(page, "Box packed");
  expect((await elementOf(page, "Box")).kind.solid.placed).toHaveLength(12);
  await expect(page.getByText("12 bodies").first()).toBeVisible();
  await shown(page);
  // Too many are refused with a word why, and the shot stays.
  await packed.getByRole("textbox", { name: "Copies", exact: true }).fill("4000");
  await page.keyboard.press("Enter");
  await packed.getByRole("button", { name: "Pack them" }).click();
  await expect(page.getByText(/4000 of Box in Bag: they would fill/)).toBeVisible();
  expect((await elementOf(page, "Box")).kind.solid.placed).toHaveLength(12);

  await pick(page, "Laid", "laid flat in pieces");
  await saved(page, "UVs");
  await expect(page.getByTestId("uv-measures")).toContainText("6 pieces");
  await page.getByRole("button", { name: "Show a checker" }).click();
  await expect(page.getByRole("button", { name: "Hide the checker" })).toBeVisible();
  await shown(page);
});

test("a block that is carried sways after its motion", async ({ page }) => {
  await newShot(page, server.address, { name: "Sway", last: 12 });
  await add(page, "Box");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Animated", exact: true }).click();
  await saved(page, "Movement");
  await page.getByRole("button", { name: "Let it sway" }).click();
  await saved(page, "Sway");
  await type(page, "Frequency, Hz", "3");
  await saved(page, "Frequency");
  expect((await elementOf(page, "Box")).kind.solid.sway.frequency_hz).toBe(3);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  const { systems } = await (
    await page.request.get(`${server.address}/api/shots/${shotId(page)}/freshness`)
  ).json();
  expect(systems.map((of) => of.system)).toContain("sway");
});
