// Maps: painted on the Viewport, made of layers, shown, and used by pins and factors; materials of one's own.
import { expect, test } from "./test.mjs";
import { add, computed, makeCloth, newShot, pick, saved, shown, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const shotOf = async (page) => {
  const id = /shot\/(\d+)/.exec(page.url())[1];
  return (await (await page.request.get(`${server.address}/api/shots/${id}`)).json()).document;
};

/** The one solid of the shot. */
const solidOf = async (page) => (await shotOf(page)).elements.find((e) => "solid" in e.kind).kind.solid;

/** The weights of a map at a frame. */
async function weights(page, map, frame = 1) {
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const element = (await shotOf(page)).elements.find((e) => "solid" in e.kind).id;
  const path = `/api/shots/${id}/maps/${element}/${frame}?map=${encodeURIComponent(map)}`;
  const bytes = await (await page.request.get(server.address + path)).body();
  const vertices = bytes.readUInt32LE(0);
  return Array.from({ length: vertices }, (_, i) => bytes.readFloatLE(bytes.length - 4 * vertices + 4 * i));
}

/** A shot with a sheet seen from above, made cloth. */
async function newSheet(page, name) {
  await newShot(page, server.address, { name });
  await add(page, "Plane");
  await tab(page, "Placement");
  await type(page, "Place y", "2");
  await makeCloth(page);
  await type(page, "Edges, mm", "150");
  await saved(page, "Edges");
  await page.getByRole("button", { name: "Top", exact: true }).click();
  await page.getByRole("button", { name: "Look at the selection" }).click();
  await shown(page);
}

/** Drags over the middle of the Viewport, from and to parts of its width. */
async function stroke(page, from, to) {
  const box = await page.getByLabel("The shot in 3D").boundingBox();
  const at = (x, y) => [box.x + x * box.width, box.y + y * box.height];
  await page.mouse.move(...at(...from));
  await page.mouse.down();
  await page.mouse.move(...at((from[0] + to[0]) / 2, (from[1] + to[1]) / 2), { steps: 4 });
  await page.mouse.move(...at(...to), { steps: 4 });
  await page.mouse.up();
}

test("a map is painted on the Viewport stroke by stroke, and pins hold where it is strong", async ({
  page,
}) => {
  await newSheet(page, "Painted");
  await page.getByRole("button", { name: "Add a map" }).click();
  await expect(page.getByRole("group", { name: "Brush" })).toBeVisible();
  await type(page, "Size, mm", "300");
  await stroke(page, [0.45, 0.5], [0.55, 0.5]);
  await saved(page, "Stroke on Plane");
  const one = await weights(page, "Map");
  const strong = one.filter((w) => w > 0.5).length;
  expect(strong).toBeGreaterThan(4);
  expect(one.filter((w) => w === 0).length).toBeGreaterThan(strong);
  await stroke(page, [0.5, 0.4], [0.5, 0.42]);
  await expect(page.getByText("2 strokes")).toBeVisible();
  expect((await weights(page, "Map")).filter((w) => w > 0.5).length).toBeGreaterThan(strong);
  // The brush takes away; each stroke is undone by itself.
  await page.getByRole("radio", { name: "Takes away" }).click();
  await stroke(page, [0.5, 0.4], [0.5, 0.6]);
  await expect(page.getByText("3 strokes")).toBeVisible();
  expect((await weights(page, "Map")).filter((w) => w > 0.5).length).toBeLessThan(strong);
  await page.getByRole("button", { name: "Undo" }).dblclick();
  await expect(page.getByText("1 stroke", { exact: true })).toBeVisible();
  expect(await weights(page, "Map")).toEqual(one);
  await page.getByRole("button", { name: "Done painting" }).click();
  await expect(page.getByRole("group", { name: "Brush" })).toBeHidden();

  await page.getByRole("button", { name: "Add a pin" }).click();
  await pick(page, "Pin 1", "where map Map is over ½");
  await saved(page, "Pins");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const path = `${server.address}/api/shots/${id}/meshes/obj?first=20&last=20`;
  const lines = (await (await page.request.get(path)).text()).split("\n");
  const heights = lines.filter((line) => line.startsWith("v ")).map((line) => Number(line.split(" ")[2]));
  expect(heights.filter((y) => Math.abs(y - 2) < 1e-3)).toHaveLength(strong);
  expect(Math.min(...heights)).toBeLessThan(1.7);
});

test("layers are mixed, a map is renamed with what names it, and scales stiffness", async ({ page }) => {
  await newSheet(page, "Layers");
  await page.getByRole("button", { name: "Add a map" }).click();
  await pick(page, "Source of layer 1", "rising to a side");
  await saved(page, "Layer");
  const side = await weights(page, "Map");
  expect([Math.min(...side), Math.max(...side)]).toEqual([0, 1]);
  await page.getByRole("button", { name: "Add a layer" }).click();
  await pick(page, "Source of layer 2", "1 everywhere");
  await pick(page, "How it goes in of layer 2", "subtract");
  await saved(page, "Layer");
  await expect.poll(async () => Math.max(...(await weights(page, "Map")))).toBe(0);
  const second = page.getByRole("group", { name: "Layer 2" });
  await second.getByRole("textbox", { name: "Amount" }).fill("0.25");
  await second.getByRole("textbox", { name: "Amount" }).press("Enter");
  await saved(page, "Amount");
  expect(Math.max(...(await weights(page, "Map")))).toBeCloseTo(0.75, 5);

  await page.getByRole("button", { name: "Add a factor" }).click();
  await pick(page, "Quantity of factor 1", "bending");
  await saved(page, "Factor");
  const name = page.getByRole("textbox", { name: "Name of map 1" });
  await name.fill("stiff hem");
  await name.press("Enter");
  await saved(page, "Map Map renamed");
  expect((await solidOf(page)).cloth.scaled[0]).toMatchObject({ quantity: "bending", map: "stiff hem" });
  await expect(page.getByRole("button", { name: "Colour by" })).toHaveText("Map stiff hem");
  await page.getByRole("button", { name: "Delete map stiff hem" }).click();
  await saved(page, "Map stiff hem deleted");
  expect((await solidOf(page)).cloth.scaled ?? []).toEqual([]);
});

test("settings are kept as a material of one's own and taken up by another sheet", async ({ page }) => {
  await newSheet(page, "Materials");
  await type(page, "Weight, g/m²", "780");
  await saved(page, "Weight");
  await page.getByRole("textbox", { name: "Name of your material" }).fill("wet sail");
  await page.getByRole("button", { name: "Keep as a material" }).click();
  await expect(page.getByRole("button", { name: "Move toward wet sail" })).toBeVisible();
  await type(page, "Weight, g/m²", "100");
  await saved(page, "Weight");
  await page.getByRole("button", { name: "Move toward wet sail" }).click();
  await saved(page, "100 % toward wet sail");
  expect((await solidOf(page)).cloth.mass_kg_m2).toBeCloseTo(0.78, 4);
  await page.getByRole("button", { name: "Delete wet sail" }).click();
  await expect(page.getByRole("button", { name: "Delete wet sail" })).toBeHidden();
});

test("a pin is picked on the Viewport, springy or not, and the sheet is seen through", async ({ page }) => {
  await newSheet(page, "Picked");
  await page.getByRole("button", { name: "Add a pin" }).click();
  await pick(page, "Pin 1", "around a place");
  await page.getByRole("button", { name: "Pick the place" }).click();
  await expect(page.getByText("Press where the pin is to hold.")).toBeVisible();
  const box = await page.getByLabel("The shot in 3D").boundingBox();
  // Right of the middle, seen from above.
  await page.mouse.click(box.x + 0.55 * box.width, box.y + 0.5 * box.height);
  await saved(page, "Place of a pin of Plane");
  const [{ part }] = (await solidOf(page)).cloth.pins;
  const [x, y, z] = part.point.position_m;
  expect(x).toBeGreaterThan(0.02);
  expect(Math.abs(z)).toBeLessThan(0.1);
  expect(y).toBeCloseTo(0, 5);
  const pin = page.getByRole("group", { name: "Pin 1" });
  await pin.getByLabel("Springy").check();
  await saved(page, "Pins");
  await type(page, "Frequency, Hz", "5");
  await saved(page, "Frequency");
  expect((await solidOf(page)).cloth.pins[0].spring.frequency_hz).toBe(5);
  await tab(page, "Look");
  await page.getByLabel("See through it on the Viewport").check();
  await saved(page, "See-through");
});
