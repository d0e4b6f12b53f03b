import { flushSync, mount, unmount } from "svelte";
import { afterEach, describe, expect, test, vi } from "vitest";
import ColourField from "./ColourField.svelte";
import NumberField from "./NumberField.svelte";

let mounted: Record<string, unknown> | undefined;
afterEach(() => {
  if (mounted) void unmount(mounted);
  document.body.innerHTML = "";
});

const field = () => [...document.querySelectorAll<HTMLInputElement>("input")].at(-1)!;

function type(text: string) {
  field().value = text;
  field().dispatchEvent(new InputEvent("input", { bubbles: true }));
  flushSync();
}

function press(key: string) {
  field().dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
  flushSync();
}

/** A field of a value of a shot, which is replaced whole whenever anything of it changes. */
function number(oncommit = vi.fn()) {
  let shot = $state.raw({ friction: 0.5 });
  const props = {
    label: "Friction",
    step: 0.01,
    get value() {
      return shot.friction;
    },
    oncommit,
  };
  mounted = mount(NumberField, { target: document.body, props });
  flushSync();
  return (friction: number) => {
    shot = { friction };
    flushSync();
  };
}

describe("a number being typed", () => {
  test("stays while other values of the shot change", () => {
    const change = number();
    type("0.7");
    change(0.5);
    expect(field().value).toBe("0.7");
  });
  test("gives way when the value itself changes", () => {
    const change = number();
    type("0.7");
    change(0.9);
    expect(field().value).toBe("0.9");
  });
  test("is committed by Enter and forgotten by Escape", async () => {
    const oncommit = vi.fn();
    number(oncommit);
    type("0.7");
    press("Escape");
    expect([field().value, oncommit.mock.calls.length]).toEqual(["0.5", 0]);
    type("0,8");
    press("Enter");
    expect(oncommit).toHaveBeenCalledWith(0.8);
  });
  test("that is no number is not committed", () => {
    const oncommit = vi.fn();
    number(oncommit);
    type("rough");
    press("Enter");
    expect([field().value, oncommit.mock.calls.length]).toEqual(["0.5", 0]);
  });
  test("goes by its step with the arrows", () => {
    const oncommit = vi.fn();
    number(oncommit);
    press("ArrowUp");
    expect(oncommit).toHaveBeenLastCalledWith(0.51);
  });
});

test("a colour being typed stays while other values of the shot change", () => {
  let shot = $state.raw({ albedo: [0.6, 0.6, 0.6] });
  const oncommit = vi.fn();
  const props = {
    label: "Albedo",
    get value() {
      return shot.albedo;
    },
    oncommit,
  };
  mounted = mount(ColourField, { target: document.body, props });
  flushSync();
  type("0.9 0.1 0.1");
  shot = { albedo: [0.6, 0.6, 0.6] };
  flushSync();
  expect(field().value).toBe("0.9 0.1 0.1");
  press("Enter");
  expect(oncommit).toHaveBeenCalledWith([0.9, 0.1, 0.1]);
});
