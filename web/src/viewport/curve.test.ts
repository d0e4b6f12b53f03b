import * as THREE from "three";
import { beforeEach, expect, test, vi } from "vitest";
import type { Vector } from "../api/client";
import { CurvePoints, type CurveHost } from "./curve";

// A page on which a metre is 100 px, and y goes down.
const page = (place: THREE.Vector3) => new THREE.Vector2(100 * place.x, -100 * place.y);
const world = ({ clientX, clientY }: PointerEvent) => new THREE.Vector3(clientX / 100, -clientY / 100, 0);
const at = (type: string, x: number, y: number) =>
  Object.assign(new Event(type), { clientX: x, clientY: y }) as unknown as PointerEvent;

let host: CurveHost;
let curve: CurvePoints;
beforeEach(() => {
  host = {
    frame: () => new THREE.Matrix4().makeTranslation(1, 0, 0),
    place: (event) => world(event),
    beside: (event) => world(event),
    seen: page,
    dragging: vi.fn(),
    changed: vi.fn(),
    moved: vi.fn(),
    drawn: vi.fn(),
  };
  curve = new CurvePoints(new THREE.Scene(), host);
});

const points: Vector[] = [
  [0, 0, 0],
  [1, 0, 0],
];

test("a point is dragged in the curve's own frame", () => {
  curve.show({ id: 7, points, drawing: false });
  expect(curve.press(at("pointerdown", 203, 2))).toBe(true);
  dispatchEvent(at("pointermove", 250, -50));
  dispatchEvent(at("pointerup", 250, -50));
  expect(host.moved).toHaveBeenCalledWith(7, [
    [0, 0, 0],
    [1.5, 0.5, 0],
  ]);
});

test("a press beside the points is left to others", () => {
  curve.show({ id: 7, points, drawing: false });
  expect(curve.press(at("pointerdown", 150, 30))).toBe(false);
});

test("clicks draw points, drags do not", () => {
  curve.show({ id: 7, points, drawing: true });
  for (const [x, y, to] of [
    [100, 0, 100],
    [300, -100, 300],
    [400, 0, 480],
  ]) {
    expect(curve.press(at("pointerdown", x, y))).toBe(true);
    dispatchEvent(at("pointerup", to, y));
  }
  expect(host.drawn).toHaveBeenLastCalledWith(2);
  expect(curve.drawn()).toEqual([
    [0, 0, 0],
    [2, 1, 0],
  ]);
});

test("one point is no curve yet, and what is given up is gone", () => {
  curve.show({ id: 7, points, drawing: true });
  curve.press(at("pointerdown", 0, 0));
  dispatchEvent(at("pointerup", 0, 0));
  expect(curve.drawn()).toBeNull();
  curve.show({ id: 7, points, drawing: false });
  curve.show({ id: 7, points, drawing: true });
  expect(curve.drawn()).toBeNull();
});
