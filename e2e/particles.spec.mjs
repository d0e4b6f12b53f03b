// Particles from an empty shot: born, shown, becoming bodies; judged by a still; a film shown backwards.
import { expect, test } from "./test.mjs";
import { add, computed, front, goTo, inFront, newShot, open, pick, saved, select, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start("--demo");
});
test.afterAll(() => server.end());

async function play(page) {
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  const pause = page.getByRole("button", { name: "Pause" });
  if (await pause.isVisible()) await pause.click();
}

const sheet = (page) => page.getByRole("complementary", { name: "Sheet" });

test("a shower of scales is built from an empty shot: particles become bodies that pile up", async ({ page }) => {
  await newShot(page, server.address, { name: "Shower", last: 24 });
  await add(page, "Plane");
  await add(page, "Box");
  await tab(page, "Shape");
  await type(page, "Size x", "0.1");
  await type(page, "Size y", "0.05");
  await type(page, "Size z", "0.08");
  await page.getByRole("button", { name: "From particles" }).click();
  await saved(page, "Bodies from particles");
  await type(page, "At most", "40");

  await add(page, "Particles");
  await tab(page, "Births");
  await pick(page, "Born", "a number over the frames");
  await type(page, "Number", "60");
  await type(page, "To frame", "10");
  await type(page, "Lifespan, s", "");
  await type(page, "Size, mm", "90");
  await tab(page, "Show");
  await pick(page, "Form", "copies of solids");
  await page.getByRole("checkbox", { name: "Box" }).check();
  await page.getByRole("checkbox", { name: "Plane" }).uncheck();

  await tab(page, "Events");
  await page.getByRole("button", { name: "Add a sentence" }).click();
  await expect(sheet(page).getByRole("button", { name: "When it touches a body, die." })).toBeVisible();
  await pick(page, "When", "some time after its birth");
  await type(page, "Age, s", "0.25");
  await pick(page, "Action", "become a body");
  await expect(
    sheet(page).getByRole("button", { name: "0.25 s after its birth, become a body of Box." }),
  ).toBeVisible();

  await play(page);
  await goTo(page, 24, 1, 24);
  // Forty may become bodies; the others stay what they are.
  await expect(page.getByTestId("reading")).toContainText("20 particles");
  await page.getByRole("button", { name: "Open the curves of Particles" }).click();
  await expect(page.getByTestId("alive")).toHaveText("20");

  // And back: each is a body for a tenth of a second only.
  await add(page, "Particles of others");
  await select(page, "Box");
  await tab(page, "Shape");
  await pick(page, "Particles again", "some time after it became a body");
  await type(page, "Age, s", "0.1");
  await pick(page, "Which", "Particles of others");
  await saved(page, "Return of Box");
  await play(page);
  await goTo(page, 24, 1, 24);
  await expect(page.getByTestId("reading")).toContainText("60 particles");
});

test("a ball breaks on the floor, and what is born of it flies on", async ({ page }) => {
  await newShot(page, server.address, { name: "Breakage", last: 24 });
  await add(page, "Plane");
  await add(page, "Sphere");
  await tab(page, "Placement");
  await type(page, "Place y", "1.5");
  await tab(page, "Body");
  await type(page, "Breaks at, N s", "5");
  await saved(page, "Breaks at of Sphere");
  await expect(sheet(page)).toContainText(/breaks when stopped from 0.13 m\/s, and is gone/);
  await add(page, "Particles");
  await tab(page, "Births");
  await pick(page, "Born on", "Sphere as it breaks");
  await type(page, "Number", "70");
  await saved(page, "Number of Particles");
  await play(page);
  // It comes down from a metre in 10.8 frames.
  await goTo(page, 9, 1, 24);
  await expect(page.getByTestId("reading")).toContainText(" 0 particles");
  await goTo(page, 20, 1, 24);
  await expect(page.getByTestId("reading")).toContainText("70 particles");
  await expect(page.getByTestId("reading")).toContainText("0 contacts");
});

test("particles are picked by a click on one of them", async ({ page }) => {
  await newShot(page, server.address, { name: "Picked", last: 12 });
  await add(page, "Particles");
  await tab(page, "Births");
  await pick(page, "Born", "all at once");
  await type(page, "Number", "1");
  await type(page, "Lifespan, s", "");
  await type(page, "Size, mm", "900");
  await type(page, "± size", "0");
  await type(page, "Speed, m/s", "0");
  await tab(page, "Placement");
  await type(page, "Place y", "1");
  await saved(page, "Place y of Particles");
  await play(page);
  await goTo(page, 1, 1, 12);
  await front(page);
  await page.keyboard.press("Escape");
  const name = sheet(page).getByRole("textbox", { name: "Name", exact: true });
  await expect(name).toHaveCount(0);
  // Beside what stands for the source, well within the ball.
  const [x] = await page.evaluate(async () => {
    const cards = await (await fetch("/api/shots")).json();
    const { id } = cards.find((card) => card.name === "Picked");
    const { document } = await (await fetch(`/api/shots/${id}`)).json();
    return document.elements.find((element) => element.name === "Particles").placement.position_m;
  });
  await page.mouse.click(...(await inFront(page, x + 0.3, 1.2)));
  await expect(name).toHaveValue("Particles");
  await page.mouse.click(...(await inFront(page, x + 0.8, 1.2)));
  await expect(name).toHaveCount(0);
});

test("an event is written as a sentence, and undone", async ({ page }) => {
  await newShot(page, server.address, { name: "Sentence", last: 12 });
  await add(page, "Plane");
  await add(page, "Particles of others");
  await add(page, "Particles");
  await tab(page, "Events");
  await page.getByRole("button", { name: "Add a sentence" }).click();
  await page.getByRole("checkbox", { name: "Plane" }).check();
  await pick(page, "Action", "split into others");
  await type(page, "Number", "9");
  const said = "When it touches Plane, split into 9 of Particles of others.";
  await expect(sheet(page).getByRole("button", { name: said })).toBeVisible();
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(
    sheet(page).getByRole("button", { name: "When it touches Plane, split into 6 of Particles of others." }),
  ).toBeVisible();
  await page.getByRole("button", { name: /^Remove: When it touches/ }).click();
  await expect(sheet(page).getByRole("button", { name: /When it touches/ })).toHaveCount(0);
});

test("density is judged by a still, thinned in the Viewport, with the run as it is", async ({ page }) => {
  await open(page, server.address, "Ember fall");
  await play(page);
  await select(page, "Embers");
  await goTo(page, 1, 1, 96);
  // The air is full at the first frame.
  await expect(page.getByTestId("reading")).toContainText(/[6-9]\d\d particles/);
  await tab(page, "Show");
  await type(page, "Draw one of", "5");
  await pick(page, "Colour tells", "age");
  await expect(page.getByTestId("status")).toHaveText("All frames are computed");
  await page.getByRole("button", { name: "Render…" }).click();
  const dialog = page.getByRole("dialog", { name: "Render" });
  await type(page, "Width, px", "96");
  await type(page, "Height, px", "54");
  await type(page, "Samples, a pixel", "1");
  await dialog.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByTestId("film-frame")).toBeVisible({ timeout: 60_000 });
});

test("a run is played backwards, and its film shows it so", async ({ page }) => {
  await newShot(page, server.address, { name: "Backwards", last: 12 });
  await add(page, "Particles");
  await play(page);
  await goTo(page, 12, 1, 12);
  const reading = page.getByTestId("reading");
  await expect(reading).toContainText(/9\d particles/);
  await page.getByRole("button", { name: "forwards" }).click();
  await expect(reading).toContainText("0 particles");
  await page.getByRole("button", { name: "Render…" }).click();
  const dialog = page.getByRole("dialog", { name: "Render" });
  await dialog.getByRole("radio", { name: "Draft film" }).click();
  await expect(dialog.getByRole("checkbox", { name: /Run from its end/ })).toBeChecked();
  await type(page, "Samples, a pixel", "1");
  await dialog.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByTestId("film-frame")).toBeVisible({ timeout: 60_000 });
});

test("lanterns become thousands of particles at a press, and lanterns again", async ({ page }) => {
  await open(page, server.address, "Lantern parade");
  await select(page, "Lanterns");
  await tab(page, "Shape");
  await page.getByRole("button", { name: "Turn into particles" }).click();
  await expect(page.getByRole("button", { name: "Lanterns as particles", exact: true })).toBeVisible();
  await page.getByRole("button", { name: "Stand in the shot itself" }).click();
  await expect(page.getByRole("button", { name: "Lanterns as particles", exact: true })).toHaveCount(0);
  await expect(page.getByRole("button", { name: "Turn into particles" })).toBeVisible();
});

test("a grid of particles stands as an image, by its brightness", async ({ page }) => {
  await open(page, server.address, "Ember fall");
  await select(page, "Embers");
  await tab(page, "Births");
  await pick(page, "Born on", "a grid of points");
  await pick(page, "Born", "all at once");
  await pick(page, "Map", "brightness of backdrop");
  await page.getByRole("checkbox", { name: "Dark counts, not bright" }).check();
  await saved(page, "Dark counts, not bright of Embers");
  await tab(page, "Show");
  await page.getByRole("combobox", { name: "By", exact: true }).first().click();
  await page.getByRole("option", { name: "map where born", exact: true }).click();
  await saved(page, "Colour of Embers");
  await play(page);
  await goTo(page, 2, 1, 96);
  await expect(page.getByTestId("reading")).toContainText("particles");
  // On a point there is nothing for a map to lie on.
  await tab(page, "Births");
  await pick(page, "Born on", "a point");
  await expect(page.getByRole("combobox", { name: "Map", exact: true })).toHaveCount(0);
});
