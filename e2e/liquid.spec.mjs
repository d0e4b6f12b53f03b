// Liquid from an empty shot: filled and forecast, played, made a mesh, poured, and melted.
import { expect, test } from "./test.mjs";
import { add, computed, goTo, newShot, pick, saved, shown, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const sheet = (page) => page.getByRole("complementary", { name: "Sheet" });
const reading = (page) => page.getByTestId("reading");

async function play(page) {
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  const pause = page.getByRole("button", { name: "Pause" });
  if (await pause.isVisible()) await pause.click();
}

test("a block of water falls, is forecast before and scrubbed after, and its surface is a mesh", async ({
  page,
}) => {
  await newShot(page, server.address, { name: "Water", last: 12 });
  await add(page, "Plane");
  await add(page, "Block of liquid");
  await tab(page, "Births");
  await type(page, "Size x", "0.3");
  await type(page, "Size z", "0.3");
  await tab(page, "Body");
  await type(page, "Spacing, mm", "30");
  // 0.3 × 0.5 × 0.3 m³ at 30 mm.
  await expect(page.getByTestId("forecast-of-liquid")).toContainText("About 1,667 particles, 208 voxels");
  await play(page);
  await goTo(page, 12, 1, 12);
  await expect(reading(page)).toContainText(/1,\d\d\d particles/);

  await page.getByRole("button", { name: "+ finish" }).click();
  await page
    .getByRole("menuitem", { name: /^Mesh of particles / })
    .last()
    .click();
  await expect(sheet(page).getByText("the surface of a liquid")).toBeVisible();
  await goTo(page, 6, 1, 12);
  await shown(page);
  await expect(reading(page)).toHaveText("frame 6 · finished");
  await expect(page.getByTestId("gives")).toHaveText("Gives 12 frames, 1–12.");
});

test("a jet pours by its speed or by a volume, and grains become a liquid and back", async ({ page }) => {
  await newShot(page, server.address, { name: "Pour", last: 10 });
  await add(page, "Plane");
  await add(page, "Jet of liquid");
  await tab(page, "Births");
  await pick(page, "Born", "a volume a second");
  await type(page, "Flow, l/s", "2");
  await saved(page, "Flow");
  await tab(page, "Body");
  // 2 l/s for 9 / 24 s at 20 mm.
  await expect(page.getByTestId("forecast-of-liquid")).toContainText("About 94 particles");
  await play(page);
  await goTo(page, 10, 1, 10);
  await expect(reading(page)).toContainText(/9\d particles/);

  await sheet(page).getByRole("button", { name: "Make them grains" }).click();
  await sheet(page).getByRole("button", { name: "Make a liquid" }).click();
  await expect(page.getByTestId("forecast-of-liquid")).toBeVisible();
});

test("a liquid is moved toward jelly, and is softer where a region has weight", async ({ page }) => {
  await newShot(page, server.address, { name: "Melt", last: 8 });
  await add(page, "Plane");
  await add(page, "Box region");
  await add(page, "Block of liquid");
  await tab(page, "Body");
  await type(page, "Spacing, mm", "40");
  await pick(page, "Toward", "jelly");
  await sheet(page).getByRole("button", { name: "Move toward jelly" }).click();
  await expect(sheet(page).getByLabel("Yield stress, Pa", { exact: true })).toHaveValue("400");
  await sheet(page).getByRole("button", { name: "Add a factor" }).click();
  const factor = sheet(page).getByRole("group", { name: "Factor 1" });
  await expect(factor).toContainText("stiffness");
  await expect(factor).toContainText("Box region");
  await pick(page, "Quantity of factor 1", "yield stress");
  await type(page, "Where 1", "0.001");
  await saved(page, "Where 1");
  await play(page);
  await goTo(page, 8, 1, 8);
  await expect(reading(page)).toContainText(/particles/);
  await factor.getByRole("button", { name: "Remove factor 1" }).click();
  await expect(factor).toBeHidden();
});

test("a pool fills what stands around it up to its height, and says where it would run out", async ({
  page,
}) => {
  await newShot(page, server.address, { name: "Pool", last: 6 });
  await add(page, "Plane");
  await add(page, "Torus");
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Still" }).click();
  await tab(page, "Placement");
  await type(page, "Place y", "0.07");
  await add(page, "Pool of liquid");
  await tab(page, "Births");
  await expect(sheet(page).getByText("Fills what stands around it, up to its own height")).toBeVisible();
  await page.getByRole("button", { name: /to check/ }).click();
  await expect(page.getByText(/the pool runs out at/)).toBeVisible();
  await page.keyboard.press("Escape");
  await tab(page, "Placement");
  await type(page, "Place y", "0.06");
  await play(page);
  await goTo(page, 6, 1, 6);
  // A disc of 0.3 − 0.08 m and more, 0.06 m high, at 20 mm.
  await expect(reading(page)).toContainText(/1,\d\d\d particles/);
});

test("a splash releases spray, its liquid is coloured and cut open, and its volume is plotted", async ({
  page,
}) => {
  await newShot(page, server.address, { name: "Splash", last: 14 });
  await add(page, "Plane");
  await add(page, "Block of liquid");
  await tab(page, "Body");
  await type(page, "Spacing, mm", "40");
  await add(page, "Spray of a liquid");
  await expect(sheet(page).getByRole("combobox", { name: "Born on" })).toContainText("where it is fast");
  await tab(page, "Births");
  await type(page, "By curvature, per l s", "20000");
  await saved(page, "curvature");
  await tab(page, "Body");
  await expect(sheet(page).getByRole("combobox", { name: "Carried by" })).toContainText("Block of liquid");
  await sheet(page).getByRole("checkbox", { name: "Bubbles within" }).uncheck();
  await saved(page, "Phases");
  await play(page);
  await goTo(page, 14, 1, 14);

  // The liquid alone has about 2,000 particles.
  const count = async () => Number(/([\d,]+) particles/.exec(await reading(page).textContent())?.[1].replace(",", ""));
  await expect.poll(count).toBeGreaterThan(2_050);

  await page.getByRole("button", { name: "Colour by" }).click();
  await expect(page.getByRole("menuitemradio", { name: "Stretch" })).toHaveCount(0);
  const answer = page.waitForResponse((response) => response.url().includes("quantity=vorticity"));
  await page.getByRole("menuitemradio", { name: "Vorticity" }).click();
  expect((await answer).status()).toBe(200);
  await expect(page.getByLabel("Top of vorticity")).toHaveValue("40");

  await page.getByRole("button", { name: "Cut through liquids" }).click();
  const cut = page.getByRole("group", { name: "Cut through liquids" });
  await cut.getByRole("button", { name: "x", exact: true }).click();
  await expect(cut.getByRole("button", { name: "x", exact: true })).toHaveAttribute("aria-pressed", "true");
  await cut.getByRole("button", { name: "Other side" }).click();

  await page.getByRole("button", { name: "Open the curves of Block of liquid" }).click();
  await expect(page.getByTestId("volume-kept")).toContainText(/9\d\.\d %|10\d\.\d %/);
});

test("three sizes are compared in the gate, and one of them is taken", async ({ page }) => {
  await newShot(page, server.address, { name: "Sizes", last: 6 });
  await add(page, "Plane");
  await add(page, "Block of liquid");
  await tab(page, "Body");
  await type(page, "Spacing, mm", "40");
  await saved(page, "Spacing");
  await page.getByRole("button", { name: "Compare three sizes" }).click();
  await expect(page.getByTestId("enough")).toHaveText(/is enough|Each can be told/);
  const sizes = page.getByRole("list", { name: "Sizes" });
  await expect(sizes.getByRole("listitem")).toHaveCount(3);
  await expect(sizes).toContainText(/80 mm.*pixels off the next.*56.6 mm.*40 mm.*The shot as it is\./s);
  await page.getByRole("button", { name: "Use 56.6 mm" }).click();
  await expect(sheet(page).getByLabel("Spacing, mm", { exact: true })).toHaveValue("56.6");
  await expect(sheet(page).getByText("The shot has changed since.")).toBeVisible();
});
