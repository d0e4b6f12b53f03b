// Playwright's test, which fails where a page leaves an error in the browser's console.
import { test as base, expect } from "@playwright/test";

// A refusal that is shown to the person (409, 413, 422) is noted by the browser itself.
const SHOWN = /status of (409|413|422)/;

export const test = base.extend({
  /** Errors that a test brings about: a pattern of their texts. */
  expectedErrors: [null, { option: true }],
  /** Pixels that the Viewport draws for one of the page: few where a walk changes the window often. */
  drawnPixels: [1, { option: true }],
  page: async ({ page, expectedErrors, drawnPixels }, use) => {
    await page.addInitScript((ratio) => Object.defineProperty(window, "devicePixelRatio", { value: ratio }), drawnPixels);
    const errors = [];
    const note = (text) => {
      if (!SHOWN.test(text) && !expectedErrors?.test(text)) errors.push(text);
    };
    page.on("console", (message) => {
      if (message.type() === "error") note(`${message.text()} ${message.location().url}`);
    });
    page.on("pageerror", (error) => note(error.message));
    await use(page);
    expect(errors, "errors in the browser's console").toEqual([]);
  },
});
export { expect };
