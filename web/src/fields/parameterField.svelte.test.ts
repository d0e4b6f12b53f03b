import { flushSync, mount, unmount } from "svelte";
import { afterEach, expect, test, vi } from "vitest";
import type { Element, ShotState } from "../api/client";
import { shot } from "../state/shot.svelte";
import { values } from "../state/values.svelte";
import ParameterField from "./ParameterField.svelte";
import ParameterRows from "./ParameterRows.svelte";

const crate = {
  id: 7,
  name: "Crate",
  placement: { position_m: [1, 2, 3], orientation_rad: [0, Math.PI / 2, 0] },
  kind: {
    solid: { shape: { box: { size_m: [1, 1, 1], edge_m: 0.01 } }, body: { margin_m: null }, look: {} },
  },
} as unknown as Element;
const at = (path: string) => ({ element: crate, ids: [7], path });

let mounted: Record<string, unknown> | undefined;
afterEach(() => {
  if (mounted) void unmount(mounted);
  vi.restoreAllMocks();
  document.body.innerHTML = "";
});

function show(component: typeof ParameterField | typeof ParameterRows, props: object) {
  const document_ = { elements: [crate], timing: { fps: 24, first: 1, last: 96 }, channels: {} };
  shot.state = { id: 1, revision: 1, document: document_ } as unknown as ShotState;
  mounted = mount(component as typeof ParameterField, {
    target: document.body,
    props: props as { target: ReturnType<typeof at> },
  });
  flushSync();
}
const input = (label: string) => document.querySelector<HTMLInputElement>(`input[aria-label="${label}"]`)!;
const labels = () => [...document.querySelectorAll("input")].map((field) => field.getAttribute("aria-label"));

test("an angle is shown in degrees", () => {
  show(ParameterField, { target: at("placement.orientation_rad") });
  expect(input("Turn y").value).toBe("90");
});

test("a value that is left out tells what stands in its place, and can be left out again", () => {
  const set = vi.spyOn(values, "set").mockResolvedValue(true);
  show(ParameterField, { target: at("kind.solid.body.breaking_impulse_n_s") });
  const field = input("Breaks at, N s");
  expect([field.value, field.placeholder]).toEqual(["", "never"]);
  field.value = "12";
  field.dispatchEvent(new InputEvent("input", { bubbles: true }));
  field.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true }));
  expect(set).toHaveBeenCalledWith(at("kind.solid.body.breaking_impulse_n_s"), "Breaks at", 12);
});

test("another value in its place is shown, and what is typed replaces that", () => {
  const oncommit = vi.fn();
  const target = at("kind.solid.body.weight.mass_kg");
  show(ParameterField, { target, stored: false, computed: 4.5, oncommit });
  expect(input("Mass, kg").value).toBe("4.5");
});

test("rows have a field for each value, two for a size of two numbers", () => {
  show(ParameterRows, { target: at("kind.solid.shape.box") });
  expect(labels()).toEqual(["Size x", "Size y", "Size z", "Edge radius, m"]);
  void unmount(mounted!);
  show(ParameterRows, { target: at("kind.area_light"), without: ["radiance", "colour"] });
  expect(labels()).toEqual(["Size x, m", "Size z, m"]);
});

test("a path that is not declared is an error", () => {
  expect(() => show(ParameterField, { target: at("kind.solid.body.frictoin") })).toThrow(/frictoin/);
});
