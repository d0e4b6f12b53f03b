// What a person does, by the names they read.
import { expect } from "@playwright/test";

export async function newShot(page, address, { name = "Test shot", last = 24 } = {}) {
  await page.goto(address);
  await page.getByRole("button", { name: "New shot" }).click();
  await page.getByRole("textbox", { name: "Name" }).fill(name);
  await type(page, "Width, px", "160");
  await type(page, "Height, px", "96");
  await type(page, "Last frame", String(last));
  await page.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByRole("heading", { name, level: 1 })).toBeVisible();
  await drawn(page);
}

export async function open(page, address, name) {
  await page.goto(address);
  await page.getByRole("link", { name: new RegExp(name) }).click();
  await expect(page.getByRole("heading", { name, level: 1 })).toBeVisible();
  await drawn(page);
}

/** Waits until the Viewport has drawn. */
export async function drawn(page) {
  await page.waitForFunction(() => Number(document.querySelector("canvas")?.dataset.drawn) > 0);
}

/** Waits until the Viewport shows the shot as it is saved. */
export async function shown(page) {
  const { revision } = await savedShot(page);
  await page.waitForFunction(
    (wanted) => Number(document.querySelector("canvas")?.dataset.revision) >= wanted,
    revision,
  );
}

export async function type(page, label, value) {
  const field = page.getByRole("textbox", { name: label, exact: true });
  await field.fill(value);
  await field.press("Enter");
}

export async function add(page, name) {
  await page.getByRole("button", { name: "Add", exact: true }).click();
  await page.getByRole("menuitem", { name, exact: true }).click();
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue(new RegExp(name));
  await shown(page);
}

export async function select(page, name) {
  await page.getByRole("region", { name: "Timeline" }).getByRole("button", { name, exact: true }).click();
  await expect(page.getByRole("textbox", { name: "Name", exact: true })).toHaveValue(name);
}

export async function tab(page, name) {
  await page.getByRole("tab", { name, exact: true }).click();
}

/** Chooses one of the options of a field. */
export async function pick(page, field, option) {
  await page.getByRole("combobox", { name: field, exact: true }).click();
  await page.getByRole("option", { name: option, exact: true }).click();
}

/** The stretches of frames on the Timeline, such as `1–24 fresh`. */
export function stretches(page) {
  return page.locator("[data-state][data-first]");
}

/** Waits until the last change is saved: Undo names it. */
export async function saved(page, label) {
  await expect(page.getByRole("button", { name: "Undo" })).toHaveAttribute("title", new RegExp(label));
}

export async function computed(page, timeout = 60_000) {
  await expect(page.getByTestId("status")).toHaveText("All frames are computed", { timeout });
}

export async function goTo(page, frame, first, last) {
  const ruler = page.getByRole("slider", { name: "Frame", exact: true });
  const box = await ruler.boundingBox();
  const share = (1 + (96 * (frame - first)) / (last - first)) / 100;
  await page.mouse.click(box.x + box.width * share, box.y + 10);
  await expect(page.getByTestId("frame")).toContainText(String(frame));
}

/** A point of the front view, which shows 6 m of height around 0.6 m. */
export async function inFront(page, x, y) {
  const box = await page.locator("canvas").boundingBox();
  const scale = box.height / 6;
  return [box.x + box.width / 2 + x * scale, box.y + (3.6 - y) * scale];
}

/** Looks from the front. */
export async function front(page) {
  const before = Number(await page.locator("canvas").getAttribute("data-drawn"));
  await page.getByRole("button", { name: "Front", exact: true }).click();
  await page.waitForFunction((n) => Number(document.querySelector("canvas").dataset.drawn) > n, before);
}

/** The shot as it is saved. */
export async function savedShot(page) {
  const id = /shot\/(\d+)/.exec(page.url())[1];
  return (await page.request.get(new URL(`/api/shots/${id}`, page.url()).href)).json();
}

/** An element of the shot as it is saved. */
export async function elementOf(page, name) {
  const { document } = await savedShot(page);
  return document.elements.find((of) => of.name === name);
}

/** Makes the selected solid a free cloth. */
export async function makeCloth(page) {
  await tab(page, "Body");
  await page.getByRole("radio", { name: "Free", exact: true }).click();
  await page.getByRole("radio", { name: "Cloth", exact: true }).click();
  await saved(page, "Cloth");
}
