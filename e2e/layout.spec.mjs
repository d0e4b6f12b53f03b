// Nothing is cut: every state of every view, in small and large windows.
import { add, computed, goTo, newShot, open, select, tab } from "./desk.mjs";
import { png } from "./files.mjs";
import { Server } from "./server.mjs";
import { expect, test } from "./test.mjs";

const SIZES = [
  [1024, 700],
  [1280, 800],
  [1600, 900],
  [2560, 1440],
];

// A walk through everything takes minutes on a busy machine.
test.describe.configure({ timeout: 420_000 });
test.use({ drawnPixels: 0.25 });

let server;
test.beforeAll(async () => {
  server = await new Server().start("--demo");
});
test.afterAll(() => server.end());

/** What of the page is cut, in words: outside the window, outside its box, or with its text clipped. */
function cut() {
  const found = [];
  const name = (of) => `${of.tagName.toLowerCase()} “${(of.getAttribute("aria-label") ?? of.textContent ?? "").trim().slice(0, 40)}”`;
  const root = document.scrollingElement;
  if (root.scrollWidth > innerWidth || root.scrollHeight > innerHeight) found.push("the page scrolls");
  const scrolls = (style, axis) => /auto|scroll/.test(style[`overflow${axis}`]);
  const wanted = "button, a, input, select, h1, h2, label, th, td, figcaption, p, [role=tab], [role=combobox], [role=radio]";
  for (const of of document.querySelectorAll(wanted)) {
    const box = of.getBoundingClientRect();
    const style = getComputedStyle(of);
    if (!box.width || !box.height || style.visibility === "hidden" || of.closest(".thread, .sr-only, [aria-hidden=true]")) continue;
    // Text that ends in dots says that it goes on.
    const dots = [of, ...of.querySelectorAll("*")].some((part) => getComputedStyle(part).textOverflow === "ellipsis");
    if (!dots && !of.matches("input") && style.overflow !== "visible" && of.scrollWidth > of.clientWidth + 1) found.push(`${name(of)} has its text cut`);
    // Within every box that clips, up to one that scrolls.
    let [left, right, top, bottom] = [0, innerWidth, 0, innerHeight];
    let [acrossScrolls, downScrolls] = [false, false];
    for (let around = of.parentElement; around; around = around.parentElement) {
      const own = getComputedStyle(around);
      const edge = around.getBoundingClientRect();
      if (around.matches("aside, main, section, [role=dialog]") && scrolls(own, "X") && around.scrollWidth > around.clientWidth + 1)
        found.push(`${name(around)} scrolls sideways`);
      if (scrolls(own, "X") && around.scrollWidth > around.clientWidth) acrossScrolls = true;
      if (scrolls(own, "Y") && around.scrollHeight > around.clientHeight) downScrolls = true;
      if (!acrossScrolls && own.overflowX !== "visible") [left, right] = [Math.max(left, edge.left), Math.min(right, edge.right)];
      if (!downScrolls && own.overflowY !== "visible") [top, bottom] = [Math.max(top, edge.top), Math.min(bottom, edge.bottom)];
    }
    if (acrossScrolls) [left, right] = [-Infinity, Infinity];
    if (downScrolls) [top, bottom] = [-Infinity, Infinity];
    if (box.left < left - 1 || box.right > right + 1) found.push(`${name(of)} is cut at a side: ${Math.round(box.left)}–${Math.round(box.right)} of ${Math.round(left)}–${Math.round(right)}`);
    if (box.top < top - 1 || box.bottom > bottom + 1) found.push(`${name(of)} is cut above or below`);
  }
  // In the bar nothing lies over anything else.
  const bar = [...document.querySelectorAll("header :is(button, a, h1, span.rounded-full)")].filter((of) => of.getBoundingClientRect().width > 0);
  for (const a of bar)
    for (const b of bar) {
      if (a === b || a.contains(b) || b.contains(a)) continue;
      const [p, q] = [a.getBoundingClientRect(), b.getBoundingClientRect()];
      if (p.left < q.right - 1 && q.left < p.right - 1 && p.left <= q.left) found.push(`${name(a)} lies over ${name(b)}`);
    }
  return [...new Set(found)];
}

async function whole(page, state) {
  for (const [width, height] of SIZES) {
    await page.setViewportSize({ width, height });
    // The layout of this frame and the next.
    await page.evaluate(() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done))));
    expect(await page.evaluate(cut), `${state} at ${width} × ${height}`).toEqual([]);
  }
}

test("of Home and its dialogs", async ({ page }) => {
  await page.goto(server.address);
  await expect(page.getByRole("link", { name: /Crate tumble/ })).toBeVisible();
  await whole(page, "Home");
  await page.getByRole("button", { name: "New shot" }).click();
  await whole(page, "a new shot");
});

test("of the Desk with each kind of element", async ({ page }) => {
  await newShot(page, server.address, { name: "A shot with a rather long name that has to end in dots" });
  await whole(page, "an empty shot");
  for (const name of ["Box", "Particles", "Wind", "Box region", "Line", "Area light"]) {
    await add(page, name);
    for (const of of await page.getByRole("tab").allTextContents()) {
      await tab(page, of);
      await whole(page, `${name}, ${of}`);
    }
  }
  await select(page, "Camera");
  await whole(page, "a camera");
});

test("of the Desk at work", async ({ page }) => {
  await open(page, server.address, "Squall test");
  await select(page, "Squall");
  await page.getByRole("button", { name: "Key of Squall at frame 60" }).click();
  await whole(page, "a key chosen");
  await page.getByRole("button", { name: "Open the curves of Squall", exact: true }).click();
  await whole(page, "curves");
  await page.getByRole("button", { name: "Change" }).click();
  await whole(page, "what can be done with keys");
  await page.keyboard.press("Escape");
  await page.getByRole("button", { name: "Perform" }).click();
  await whole(page, "about to perform");
  await page.getByRole("button", { name: "Perform" }).click();
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await whole(page, "computing");
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await goTo(page, 60, 1, 120);
  await page.getByRole("button", { name: "Keep run" }).click();
  await expect(page.getByText("Run kept.")).toBeVisible();
  await whole(page, "a notice");
});

test("of menus and dialogs", async ({ page }) => {
  await open(page, server.address, "Crate tumble");
  await select(page, "Crate stack");
  for (const [name, role] of [["Render…", "button"], ["Find", "button"], ["Check list", "button"], ["History", "button"], ["Add", "button"]]) {
    await page.getByRole(role, { name, exact: name !== "Check list" }).first().click();
    await whole(page, name);
    await page.keyboard.press("Escape");
  }
  await page.getByRole("button", { name: "Render…" }).click();
  await page.getByRole("radio", { name: "Final film" }).click();
  await expect(page.getByTestId("forecast")).toContainText("About", { timeout: 60_000 });
  await whole(page, "a film to be rendered");
});

test("of Runs and Dailies", async ({ page }) => {
  await open(page, server.address, "Float toss");
  await page.getByRole("link", { name: "Dailies" }).click();
  await whole(page, "Dailies without a film");
  await page.getByRole("link", { name: "Runs" }).click();
  await whole(page, "Runs without a run");
  await page.getByRole("link", { name: "Desk" }).click();
  await page.getByRole("button", { name: "Play", exact: true }).click();
  await computed(page);
  await page.getByRole("button", { name: "Pause" }).click();
  await page.getByRole("button", { name: "Keep run" }).click();
  await page.getByRole("link", { name: "Runs" }).click();
  await expect(page.getByRole("textbox", { name: "Name of run 1" })).toBeVisible();
  await whole(page, "Runs");
  await page.getByRole("button", { name: "Render…" }).click();
  await page.getByRole("radio", { name: "Draft film" }).click();
  for (const [field, value] of [["Last frame", "3"], ["Width, px", "64"], ["Height, px", "36"], ["Samples, a pixel", "1"]]) {
    await page.getByRole("textbox", { name: field, exact: true }).fill(value);
    await page.getByRole("textbox", { name: field, exact: true }).press("Enter");
  }
  await page.getByRole("button", { name: "Begin" }).click();
  await expect(page.getByRole("link", { name: "MP4" })).toBeVisible({ timeout: 60_000 });
  await whole(page, "Dailies");
});
