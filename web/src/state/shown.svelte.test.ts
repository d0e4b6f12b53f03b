import { beforeEach, expect, test } from "vitest";
import type { ShotState } from "../api/client";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";
import { shown } from "./shown.svelte";

const element = (id: number, more = {}) => ({ id, name: `E${id}`, kind: { solid: {} }, ...more });
function open(...elements: unknown[]) {
  shot.state = { id: 1, revision: 1, document: { elements } } as unknown as ShotState;
}
beforeEach(() => (selection.solo = []));

test("hidden elements are left out, unless keys show and hide them", () => {
  const keys = { hidden: { keys: [{ frame: 1, value: true }] } };
  open(element(9, { hidden: true }), element(3), element(5, { hidden: true, channels: keys }));
  expect(shown.part.without).toEqual([9]);
});

test("while some are shown alone the others are left out", () => {
  open(element(9), element(3), element(5, { hidden: true }));
  selection.solo = [9, 5];
  expect(shown.part.without).toEqual([3, 5]);
});

test("without graphics hardware less is drawn", () => {
  const most = shown.part.most;
  shown.inSoftware = true;
  expect(shown.part.most).toBeLessThan(most);
  shown.inSoftware = false;
});
