// Placing bodies in the Viewport: by hand, by view, by file.
import { expect, test } from "./test.mjs";
import { add, computed, drawn, front, inFront, newShot, saved, select, tab, type } from "./desk.mjs";
import { dropIntoViewport, floatsGlb, hdr, png, wedge, wedgeGlb } from "./files.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const value = (page, name) => page.getByRole("textbox", { name, exact: true });
const sheetName = (page) => value(page, "Name");

async function drag(page, [x0, y0], [x1, y1]) {
  await page.mouse.move(x0, y0);
  await page.waitForTimeout(300);
  await page.mouse.down();
  for (let i = 1; i <= 6; i++) await page.mouse.move(x0 + ((x1 - x0) * i) / 6, y0 + ((y1 - y0) * i) / 6);
  await page.mouse.up();
}

test("a click on a body selects it, one beside it selects nothing", async ({ page }) => {
  await newShot(page, server.address, { name: "Picking" });
  await add(page, "Box");
  await front(page);
  await page.keyboard.press("Escape");
  await expect(sheetName(page)).toHaveCount(0);
  await page.mouse.click(...(await inFront(page, 0.1, 0.9)));
  await expect(sheetName(page)).toHaveValue("Box");
  await page.mouse.click(...(await inFront(page, -2, 2)));
  await expect(sheetName(page)).toHaveCount(0);
});

test("a body dragged near the floor snaps onto it, and the drag is one undo", async ({ page }) => {
  await newShot(page, server.address, { name: "Handles" });
  await add(page, "Plane");
  await add(page, "Box");
  await tab(page, "Placement");
  await front(page);
  // The handle along y, from 1 m down to 0.32 m: 7 cm above where the box touches.
  await drag(page, await inFront(page, 0, 1.5), await inFront(page, 0, 0.82));
  await expect(value(page, "Place y")).toHaveValue("0.25");
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /Box moved/);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(value(page, "Place y")).toHaveValue("1");
});

test("steps hold a drag to tenths of a metre, and two bodies go together", async ({ page }) => {
  await newShot(page, server.address, { name: "Steps" });
  await add(page, "Sphere");
  await add(page, "Box");
  await page
    .getByRole("region", { name: "Timeline" })
    .getByRole("button", { name: "Sphere", exact: true })
    .click({ modifiers: ["Shift"] });
  await expect(page.getByText("and 1 more selected")).toBeVisible();
  await page.getByRole("button", { name: "Snap to the floor" }).click();
  await page.getByRole("button", { name: "Snap to 0.1 m steps" }).click();
  await front(page);
  await drag(page, await inFront(page, 0, 1.5), await inFront(page, 0, 2.03));
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /and 1 more moved/);
  await tab(page, "Placement");
  await expect(value(page, "Place y")).toHaveValue("1.5");
  await select(page, "Box");
  await expect(value(page, "Place y")).toHaveValue("1.5");
});

test("what is locked cannot be picked, what is hidden or not alone is not drawn", async ({ page }) => {
  await newShot(page, server.address, { name: "Marks" });
  await add(page, "Box");
  await front(page);
  const row = page.getByRole("region", { name: "Timeline" });
  const mark = async (name) => {
    await row.getByRole("button", { name: "Box", exact: true }).hover();
    await row.getByRole("button", { name, exact: true }).click();
  };
  await mark("Lock Box");
  await expect(row.getByRole("button", { name: "Unlock Box" })).toHaveAttribute("aria-pressed", "true");
  await page.keyboard.press("Escape");
  await page.mouse.click(...(await inFront(page, 0.1, 0.9)));
  await expect(sheetName(page)).toHaveCount(0);
  await mark("Unlock Box");
  await mark("Hide Box");
  await expect(row.getByRole("button", { name: "Show Box" })).toHaveAttribute("aria-pressed", "true");
  await page.mouse.click(...(await inFront(page, 0.1, 0.9)));
  await expect(sheetName(page)).toHaveCount(0);
  await mark("Show Box");
  await mark("Show alone Box");
  await mark("Show all again, not alone Box");
  await page.mouse.click(...(await inFront(page, 0.1, 0.9)));
  await expect(sheetName(page)).toHaveValue("Box");
});

test("a body dropped to rest stands on what is below it", async ({ page }) => {
  await newShot(page, server.address, { name: "Resting" });
  await add(page, "Plane");
  await add(page, "Cylinder");
  await tab(page, "Placement");
  await page.getByRole("button", { name: "Drop to rest" }).click();
  await expect(value(page, "Place y")).toHaveValue(/^0\.25/);
});

test("every view draws, and looking at the selection leaves the camera's", async ({ page }) => {
  await newShot(page, server.address, { name: "Views" });
  await add(page, "Torus");
  for (const view of ["Free", "Top", "Front", "Side", "Camera"]) {
    await page.getByRole("button", { name: view, exact: true }).first().click();
    await expect(page.getByRole("button", { name: view, exact: true }).first()).toHaveAttribute(
      "aria-pressed",
      "true",
    );
    await drawn(page);
  }
  await page.getByRole("button", { name: "Show collision shapes" }).click();
  await page.getByRole("button", { name: "Look at the selection" }).click();
  await expect(page.getByRole("button", { name: "Show collision shapes" })).toHaveAttribute(
    "aria-pressed",
    "true",
  );
});

test("mesh files dropped into the Viewport become bodies where they fell", async ({ page }) => {
  await newShot(page, server.address, { name: "Meshes" });
  await page.getByRole("button", { name: "Top", exact: true }).click();
  await dropIntoViewport(page, "Wedge.obj", wedge, 0.25, 0.5);
  await expect(sheetName(page)).toHaveValue("Wedge");
  await tab(page, "Shape");
  await expect(page.getByText("From the file “Wedge”.")).toBeVisible();
  await tab(page, "Placement");
  await expect.poll(async () => Number(await value(page, "Place x").inputValue())).toBeLessThan(-0.5);
  await dropIntoViewport(page, "Sail.glb", wedgeGlb());
  await expect(sheetName(page)).toHaveValue("Sail");
  await tab(page, "Body");
  await expect(page.getByText("0.167 m³")).toBeVisible();
});

test("a file of several meshes is one body, or several with their own looks", async ({ page }) => {
  await newShot(page, server.address, { name: "Floats" });
  await dropIntoViewport(page, "floats.glb", floatsGlb());
  await expect(sheetName(page)).toHaveValue("floats");
  await tab(page, "Look");
  await expect(page.getByLabel("Roughness image")).toHaveText(/floats/);
  await page.getByRole("button", { name: "Make 3 bodies of it" }).click();
  for (const name of ["Float left", "Float right", "Rope"]) {
    await select(page, name);
    await expect(sheetName(page)).toHaveValue(name);
  }
  await expect(page.getByRole("button", { name: "floats", exact: true })).toHaveCount(0);
  await tab(page, "Look");
  await expect(page.getByLabel("Roughness image")).toHaveText(/none/);
  await expect(value(page, "Roughness")).toHaveValue("0.9");
});

test("an image is laid on the selected body, an environment becomes the sky", async ({ page }) => {
  await newShot(page, server.address, { name: "Images" });
  await add(page, "Box");
  await dropIntoViewport(page, "rope.png", png);
  await page.getByRole("dialog").getByRole("button", { name: /^A look's image/ }).click();
  await tab(page, "Look");
  await expect(page.getByLabel("Albedo image", { exact: true })).toHaveText(/rope/);
  await type(page, "Repeats", "3");
  await dropIntoViewport(page, "dusk.hdr", hdr());
  await select(page, "Sky");
  await expect(page.getByText("From the image “dusk”.")).toBeVisible();
  await page.getByRole("button", { name: "Use a gradient" }).click();
  await expect(page.getByText("Zenith")).toBeVisible();
});

test("a dropped image is asked what it is: a backdrop, the sky, or only an image", async ({ page }) => {
  await newShot(page, server.address, { name: "Asked" });
  await dropIntoViewport(page, "far.png", png);
  const asked = page.getByRole("dialog", { name: "What is far?" });
  await expect(asked.getByRole("button", { name: /^A look's image/ })).toBeDisabled();
  await expect(asked.getByRole("button", { name: /^A map of births/ })).toBeDisabled();
  await asked.getByRole("button", { name: /^A backdrop/ }).click();
  await expect(sheetName(page)).toHaveValue("Backdrop");
  // As wide as the camera sees at 20 m, and wider with a longer lens.
  const width = value(page, "Size x, m");
  await expect(width).toHaveValue(/^= .*\{Camera\.focal_length\}/);
  await expect(page.getByText(/gives 20\.\d+ at this frame/).first()).toBeVisible();
  await dropIntoViewport(page, "dusk.png", png);
  await page.getByRole("dialog").getByRole("button", { name: /^The sky/ }).click();
  await select(page, "Sky");
  await expect(page.getByText("From the image “dusk”.")).toBeVisible();
  await add(page, "Particles");
  await dropIntoViewport(page, "mask.png", png);
  const last = page.getByRole("dialog", { name: "What is mask?" });
  // Born at a point, they have no place for a map.
  await expect(last.getByRole("button", { name: /^A map of births/ })).toBeDisabled();
  await last.getByRole("button", { name: "Only keep it among the images" }).click();
  await saved(page, "mask.png taken in");
});

test("a change of a field is made on all that is selected, and fields that differ say so", async ({ page }) => {
  await newShot(page, server.address, { name: "Several" });
  await add(page, "Sphere");
  await add(page, "Box");
  await tab(page, "Body");
  await type(page, "Friction", "0.9");
  const timeline = page.getByRole("region", { name: "Timeline" });
  await timeline.getByRole("button", { name: "Sphere", exact: true }).click({ modifiers: ["Shift"] });
  await expect(value(page, "Friction")).toHaveValue("");
  await expect(value(page, "Friction")).toHaveAttribute("placeholder", "differ");
  await expect(value(page, "Bounce")).toHaveValue("0.2");
  await type(page, "Friction", "0.7");
  await saved(page, "Friction of Sphere and 1 more");
  await select(page, "Box");
  await expect(value(page, "Friction")).toHaveValue("0.7");
});

test("after adding, the first tab is open, Enter plays, and the element is in view", async ({ page }) => {
  await newShot(page, server.address, { name: "Added", last: 12 });
  await add(page, "Capsule");
  await expect(page.getByRole("tab", { name: "Shape", exact: true })).toHaveAttribute("data-state", "active");
  await expect(page.locator("canvas").first()).toBeFocused();
  await page.keyboard.press("Enter");
  await expect(page.getByRole("menu")).toHaveCount(0);
  await computed(page);
});
