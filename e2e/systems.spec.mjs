// Systems go stale one by one, and are computed one by one.
import { expect, test } from "./test.mjs";
import { add, computed, goTo, newShot, saved, select, stretches, tab, type } from "./desk.mjs";
import { Server } from "./server.mjs";

let server;
test.beforeAll(async () => {
  server = await new Server().start();
});
test.afterAll(() => server.end());

const timeline = (page) => page.getByRole("region", { name: "Timeline" });
const only = (page, name) => timeline(page).getByRole("button", { name: `Compute only ${name}` });
const play = (page) => page.getByRole("button", { name: "Play", exact: true });
const pause = (page) => page.getByRole("button", { name: "Pause" });

/** How each system of the shot stands: `solids 1–24 fresh`. */
async function systems(page) {
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const { systems } = await (await page.request.get(`${server.address}/api/shots/${id}/freshness`)).json();
  return systems.flatMap((of) => of.stretches.map((s) => `${of.name} ${s.first}–${s.last} ${s.state}`));
}

test("sparks added to a baked shot leave the solids fresh, and one system is computed alone", async ({ page }) => {
  await newShot(page, server.address, { name: "Sparks" });
  await add(page, "Plane");
  await add(page, "Box");
  await play(page).click();
  await computed(page);
  await pause(page).click();
  await expect(stretches(page)).toHaveCount(1);

  await add(page, "Particles");
  // As they are they push free bodies, and are one system with them.
  await expect(timeline(page).getByText("with the solids")).toBeVisible();
  await tab(page, "Body");
  await page.getByRole("checkbox", { name: "Push free bodies" }).click();
  await expect(only(page, "solids")).toBeVisible();
  await expect.poll(() => systems(page)).toContain("solids 1–24 fresh");
  await expect(only(page, "Particles")).toBeVisible();

  // The sparks alone: the words say so, and the solids stay fresh.
  await only(page, "Particles").click();
  await expect(page.getByTestId("status")).toHaveText("Playing computes Particles only; the others hold");
  await play(page).click();
  await computed(page);
  await pause(page).click();
  expect(await systems(page)).toEqual(["solids 1–24 fresh", "Particles 1–24 fresh"]);
  await only(page, "Particles").click();

  // A change of the solids makes both stale; the solids alone leave the sparks.
  await select(page, "Box");
  await tab(page, "Body");
  await type(page, "Friction", "0.1");
  await expect(stretches(page).first()).toHaveAttribute("data-state", "stale");
  await only(page, "solids").click();
  await play(page).click();
  await expect.poll(() => systems(page)).toContain("solids 1–24 fresh");
  await pause(page).click();
  expect((await systems(page)).some((state) => /^Particles .* stale$/.test(state))).toBe(true);
});

test("a shot begins from a frame, at rest or with its velocities, and as placed again", async ({ page }) => {
  await newShot(page, server.address, { name: "Begun" });
  await add(page, "Plane");
  await add(page, "Sphere");
  await select(page, "Sphere");
  await tab(page, "Placement");
  await type(page, "Place y", "3");
  await play(page).click();
  await computed(page);
  await pause(page).click();
  await goTo(page, 12, 1, 24);
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "From frame 12, at rest" }).click();
  await saved(page, "Begins from frame 12");
  await expect(page.getByText("as in frame 12")).toBeVisible();
  await play(page).click();
  await computed(page);
  await pause(page).click();
  const id = /shot\/(\d+)/.exec(page.url())[1];
  const { document } = await (await page.request.get(`${server.address}/api/shots/${id}`)).json();
  const ball = document.elements.find((element) => element.name === "Sphere").id;
  const { run } = await (await page.request.get(`${server.address}/api/shots/${id}/freshness`)).json();
  const track = `${server.address}/api/runs/${run}/track?element=${ball}&copy=0`;
  const { height_m, speed_m_s } = await (await page.request.get(track)).json();
  // 11 frames of free fall from 3 m.
  expect(Math.abs(height_m[0] - (3 - 0.5 * 9.81 * (11 / 24) ** 2))).toBeLessThan(2e-3);
  expect(speed_m_s[0]).toBe(0);
  await page.getByRole("button", { name: "As placed", exact: true }).click();
  await saved(page, "Begins as placed");
});
