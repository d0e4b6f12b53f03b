import { expect, test } from "vitest";
import { answered } from "./asking";

test("an answer is used once it comes, and null in place of a failure", async () => {
  const found: unknown[] = [];
  answered(Promise.resolve(4), (value) => found.push(value));
  answered(Promise.reject(new Error("gone")), (value) => found.push(value));
  await new Promise((done) => setTimeout(done));
  expect(found).toEqual([4, null]);
});

test("an answer that is no longer wanted is not used", async () => {
  const found: unknown[] = [];
  const stop = answered(Promise.resolve(4), (value) => found.push(value));
  stop();
  await new Promise((done) => setTimeout(done));
  expect(found).toEqual([]);
});
