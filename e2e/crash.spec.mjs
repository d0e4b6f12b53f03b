// The server is killed in the middle of work.
import { expect, test } from "./test.mjs";
import { execFileSync } from "node:child_process";
import { existsSync, readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { add, computed, drawn, newShot, select, tab, type } from "./desk.mjs";
import { binary, Server } from "./server.mjs";

// The server is killed, and what it answers meanwhile is an error.
test.use({ expectedErrors: /ERR_|WebSocket|Failed to load resource/ });

test("a killed bake goes on and ends with the same bytes", async ({ page }) => {
  const server = await new Server().start();
  await newShot(page, server.address, { name: "Killed", last: 400 });
  await add(page, "Plane");
  await add(page, "Box");
  await tab(page, "Shape");
  await page.getByRole("button", { name: "Grid of copies" }).click();
  await type(page, "Number y", "12");
  const id = /shot\/(\d+)/.exec(page.url())[1];
  await page.getByRole("button", { name: "Play", exact: true }).click();
  const frames = join(server.data, "runs", "1", "frames", "solids");
  await expect.poll(() => (existsSync(frames) ? readdirSync(frames).length : 0)).toBeGreaterThan(20);
  await server.kill();
  const before = readdirSync(frames).filter((name) => name.endsWith(".brframe")).length;
  expect(before).toBeLessThan(400);
  await server.start();
  await page.goto(`${server.address}/#/shot/${id}/desk`);
  await computed(page);
  const zip = await (await page.request.get(`${server.address}/api/shots/${id}/export.zip`)).body();
  expect(zip.subarray(0, 2).toString()).toBe("PK");
  // The same shot, baked without disturbance by the headless command.
  const document = (await (await page.request.get(`${server.address}/api/shots/${id}`)).json()).document;
  const folder = join(server.data, "alone");
  const file = join(server.data, "shot.json");
  writeFileSync(file, JSON.stringify(document));
  execFileSync(binary, ["bake", file, "--out", folder, "--threads", "1"], { stdio: "ignore" });
  for (const name of readdirSync(join(folder, "frames", "solids"))) {
    const [a, b] = [frames, join(folder, "frames", "solids")].map((path) => readFileSync(join(path, name)));
    // Bytes 12–16 name the revision, and the head ends with a checksum; all else is the same.
    const end = 48 + 36 * a.readUInt32LE(40) + a.readUInt32LE(44);
    a.copy(b, 12, 12, 16);
    a.copy(b, end, end, end + 4);
    expect(a.equals(b), name).toBe(true);
  }
  await server.end();
});

test("a killed film goes on by itself and its pictures are those of an undisturbed one", async ({ page }) => {
  const server = await new Server().start();
  await newShot(page, server.address, { name: "Killed film", last: 12 });
  await add(page, "Plane");
  await add(page, "Sphere");
  const settings = { first: 1, last: 12, width: 160, height: 96, samples: 64, exr: true };
  const films = `${server.address}/api/shots/1/films`;
  const begun = await page.request.post(films, { data: { name: "Film", settings } });
  expect(begun.ok()).toBe(true);
  const folder = (film) => join(server.data, "films", String(film));
  const pictures = (film) =>
    existsSync(folder(film)) ? readdirSync(folder(film)).filter((name) => name.endsWith(".png")) : [];
  await expect.poll(() => pictures(1).length).toBeGreaterThan(2);
  await server.kill();
  const before = pictures(1);
  expect(before.length).toBeLessThan(12);

  await server.start();
  await page.goto(`${server.address}/#/shot/1/dailies`);
  await expect(page.getByRole("link", { name: "MP4" })).toBeVisible({ timeout: 120_000 });
  const again = await page.request.post(`${server.address}/api/shots/1/films`, {
    data: { name: "Undisturbed", settings },
  });
  expect(again.ok()).toBe(true);
  await expect(page.getByRole("link", { name: "MP4" })).toHaveCount(2, { timeout: 120_000 });
  for (const name of readdirSync(folder(2)).filter((name) => name.startsWith("frame")))
    expect(readFileSync(join(folder(1), name)).equals(readFileSync(join(folder(2), name))), name).toBe(true);
  await server.end();
});

test("a server killed while changes are saved has kept every one it answered", async ({ page }) => {
  const server = await new Server().start();
  await newShot(page, server.address, { name: "Killed save" });
  await add(page, "Box");
  const address = `${server.address}/api/shots/1`;
  let { revision, document } = await (await page.request.get(address)).json();
  const index = document.elements.findIndex((element) => element.name === "Box");
  let answered = 0;
  setTimeout(() => server.kill(), 400);
  for (let n = 1; n < 5000; n++) {
    const patch = [{ op: "add", path: `/elements/${index}/placement/position_m`, value: [n, 0, 0] }];
    const saved = await page.request
      .patch(address, { data: { base: revision, label: `To ${n}`, patch } })
      .catch(() => null);
    if (!saved?.ok()) break;
    ({ revision } = await saved.json());
    answered = n;
  }
  expect(answered).toBeGreaterThan(0);
  await expect.poll(() => server.child.exitCode ?? server.child.signalCode).not.toBeNull();

  await server.start();
  await page.goto(`${server.address}/#/shot/1/desk`);
  await drawn(page);
  await select(page, "Box");
  await tab(page, "Placement");
  // The one under way when it was killed may be there too; none before it is gone.
  const x = Number(await page.getByRole("textbox", { name: "Place x", exact: true }).inputValue());
  expect([answered, answered + 1]).toContain(x);
  await page.getByRole("button", { name: "Undo" }).click();
  await expect(page.getByRole("textbox", { name: "Place x", exact: true })).toHaveValue(String(x - 1));
  await server.end();
});
