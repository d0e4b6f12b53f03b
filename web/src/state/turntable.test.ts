import { expect, test } from "vitest";
import type { Shot } from "../api/client";
import { turntable } from "./turntable";

const document = {
  timing: { fps: 24, first: 1, last: 48 },
  elements: [{ id: 4, name: "Turntable" }],
} as unknown as Shot;

test("a turntable is a way and a camera on it that looks at its middle and renders", () => {
  const [way, camera, renders] = turntable(document, [1, 2, 3]).map((operation) => operation.value as never);
  expect(way).toMatchObject({ id: 5, name: "Turntable 2", placement: { position_m: [1, 2, 3] } });
  expect(camera).toMatchObject({ id: 6, attached: { to: 5, along: 0 }, aim: { target: 5 } });
  expect(renders).toBe(6);
});

test("the frame after the last is the first again", () => {
  const camera = turntable(document, [0, 0, 0])[1].value as { channels: Record<string, { keys: unknown }> };
  expect(camera.channels["attached.along"].keys).toEqual([
    { frame: 1, value: 0 },
    { frame: 49, value: 1 },
  ]);
});
