// What a person can do wrong, and what they are told.
import { expect, test } from "./test.mjs";
import { truncateSync } from "node:fs";
import { add, newShot, pick, select, stretches, tab, type } from "./desk.mjs";
import { put } from "./files.mjs";
import { Server } from "./server.mjs";

// The server is ended here, and what it answers then is an error.
test.use({ expectedErrors: /ERR_|WebSocket|Failed to load resource/ });

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

test("a value out of range is refused by its path and the old one stays", async ({ page }) => {
  await newShot(page, server.address, { name: "Ranges" });
  await add(page, "Box");
  await tab(page, "Body");
  await type(page, "Bounce", "7");
  await expect(page.getByRole("alert")).toContainText("kind.solid.body.restitution: 7 is outside 0 to 1");
  await expect(page.getByRole("textbox", { name: "Bounce", exact: true })).toHaveValue("0.2");
});

test("a taken name is refused", async ({ page }) => {
  await newShot(page, server.address, { name: "Names" });
  await add(page, "Box");
  await add(page, "Sphere");
  await page.getByRole("textbox", { name: "Name", exact: true }).fill("Box");
  await page.keyboard.press("Enter");
  await page.keyboard.press("Tab");
  await expect(page.getByRole("alert")).toContainText('"Box" is also the name of');
});

test("a shot of no frame rate is refused", async ({ page }) => {
  await page.goto(server.address);
  await page.getByRole("button", { name: "New shot" }).click();
  await type(page, "Frame rate, fps", "0");
  await page.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByRole("alert")).toContainText("timing.fps: 0 is outside 1 to 240");
});

test("files that are not what their names say are refused", async ({ page }, info) => {
  await newShot(page, server.address, { name: "Files" });
  const files = {
    "bad.obj": ["v 0 0 0\nf 1 2 9\n", "bad.obj, line 2: the face names vertex 2, but there are 1"],
    "cut.glb": ["glTF", "cut.glb: not a glTF file"],
    "sky.exr": ["v 0 0 0", "sky.exr: is not EXR or HDR"],
  };
  for (const [name, [text, message]] of Object.entries(files)) {
    await page.getByLabel("File to take in").setInputFiles(put(info, name, text));
    await expect(page.getByRole("alert").filter({ hasText: message })).toBeVisible();
  }
});

test("several files that are refused are told once, however often they come", async ({ page }, info) => {
  await newShot(page, server.address, { name: "Once" });
  const paths = ["one.glb", "two.ply"].map((name) => put(info, name, "nothing"));
  for (let times = 0; times < 2; times++) {
    await page.getByLabel("File to take in").setInputFiles(paths);
    await expect(page.getByRole("alert")).toContainText("2 files were not taken in.");
  }
  await expect(page.getByRole("alert")).toHaveCount(1);
});

test("a file over the limit is refused by name before it is sent", async ({ page }, info) => {
  await newShot(page, server.address, { name: "Large" });
  const path = put(info, "harbour.obj", "v 0 0 0\n");
  truncateSync(path, 257 * 2 ** 20);
  await page.getByLabel("File to take in").setInputFiles(path);
  await expect(page.getByRole("alert")).toContainText("harbour.obj is larger than 256 MB");
});

test("a write that fails stops computing, says so, and keeps the frames before", async ({ page }) => {
  const own = await new Server().start();
  await newShot(page, own.address, { name: "Full disk", last: 24 });
  await add(page, "Particles");
  await tab(page, "Births");
  await pick(page, "Born", "a number over the frames");
  await type(page, "Number", "200000");
  await type(page, "To frame", "24");
  own.limitFiles(4 << 20);
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await expect(page.getByRole("alert")).toContainText(/Computing stopped: .*File too large/);
  const [first] = await stretches(page).all();
  const last = Number(await first.getAttribute("data-last"));
  expect(last).toBeGreaterThan(2);
  expect(last).toBeLessThan(24);
  // With room again, the bake goes on from there.
  own.limitFiles("unlimited");
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await expect(stretches(page).first()).toHaveAttribute("data-last", "24");
  await own.end();
});

test("a server that is gone is said, and what was saved is there again", async ({ page }) => {
  const own = await new Server().start();
  await newShot(page, own.address, { name: "Gone" });
  await add(page, "Box");
  await tab(page, "Body");
  await type(page, "Friction", "0.7");
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /Friction of Box/);
  await own.kill();
  await type(page, "Bounce", "0.9");
  await expect(page.getByRole("alert")).toContainText("The server does not answer");
  await expect(page.getByRole("textbox", { name: "Bounce", exact: true })).toHaveValue("0.2");
  await own.end();
});

test("two windows: the later change is told and can be applied", async ({ page, context }) => {
  await newShot(page, server.address, { name: "Two windows" });
  await add(page, "Box");
  const other = await context.newPage();
  // The other window hears of nothing, as over a broken connection.
  await other.addInitScript(() => {
    window.WebSocket = class {
      readyState = 3;
    };
  });
  await other.goto(page.url());
  await select(other, "Box");
  await tab(page, "Body");
  await tab(other, "Body");
  await type(page, "Friction", "0.7");
  await expect(page.getByRole("textbox", { name: "Friction", exact: true })).toHaveValue("0.7");
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", /Friction of Box/);
  await type(other, "Bounce", "0.5");
  await expect(other.getByRole("alert")).toContainText("changed in another window");
  await other.getByRole("button", { name: "Apply it now" }).click();
  await expect(page.getByRole("textbox", { name: "Bounce", exact: true })).toHaveValue("0.5");
  await expect(other.getByRole("textbox", { name: "Friction", exact: true })).toHaveValue("0.7");
});

test("bodies that start inside each other are named and separated at a press", async ({ page }) => {
  await newShot(page, server.address, { name: "Overlap" });
  await add(page, "Plane");
  await add(page, "Box");
  await add(page, "Sphere");
  await page.getByRole("button", { name: "1 to check" }).click();
  const list = page.getByRole("dialog", { name: "Check list" });
  await expect(list).toContainText(/starts .* mm inside/);
  await list.getByRole("button", { name: "Separate" }).click();
  await expect(list).not.toContainText("inside");
});

test("an edit that a full disk refuses is told, and saving goes on once there is room", async ({ page }) => {
  const own = await new Server().start();
  await newShot(page, own.address, { name: "No room" });
  await add(page, "Box");
  await tab(page, "Body");
  await type(page, "Friction", "0.31");
  // The database cannot grow any more, and what is under way cannot be written.
  own.limitFiles(1);
  await type(page, "Friction", "0.42");
  await expect(page.getByRole("alert").first()).toBeVisible();
  await page.getByRole("button", { name: "Dismiss" }).first().click();
  own.limitFiles("unlimited");
  await type(page, "Friction", "0.53");
  await expect(page.getByRole("alert")).toHaveCount(0);
  await page.reload();
  await select(page, "Box");
  await tab(page, "Body");
  await expect(page.getByRole("textbox", { name: "Friction", exact: true })).toHaveValue("0.53");
  await own.end();
});
