// The server is killed in the middle of work.
import { expect, test } from "@playwright/test";
import { execFileSync } from "node:child_process";
import { readdirSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { add, computed, newShot, tab, type } from "./desk.mjs";
import { binary, Server } from "./server.mjs";

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
  const frames = join(server.data, "runs", "1", "frames");
  await expect.poll(() => readdirSync(frames).length).toBeGreaterThan(20);
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
  await import("node:fs").then((fs) => fs.writeFileSync(file, JSON.stringify(document)));
  execFileSync(binary, ["bake", file, "--out", folder, "--threads", "1"], { stdio: "ignore" });
  for (const name of readdirSync(join(folder, "frames"))) {
    const [a, b] = [frames, join(folder, "frames")].map((path) => readFileSync(join(path, name)));
    // Bytes 12–16 name the revision and the last four are the checksum; all else is the same.
    a.copy(b, 12, 12, 16);
    expect(a.subarray(0, -4).equals(b.subarray(0, -4)), name).toBe(true);
  }
  await server.end();
});
