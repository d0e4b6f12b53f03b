// Parts mounted by themselves, and pressed as a person would.
import { flushSync, mount, unmount, type Component } from "svelte";

let mounted: Record<string, unknown> | undefined;

/** Takes away what was mounted last. */
export function clear() {
  if (mounted) void unmount(mounted);
  mounted = undefined;
  document.body.innerHTML = "";
}

export function show(component: unknown, props: object = {}) {
  mounted = mount(component as Component<Record<string, unknown>>, {
    target: document.body,
    props: { ...props },
  });
  flushSync();
}

/** What a button is called, or reads. */
export const button = (name: string | RegExp) =>
  [...document.querySelectorAll("button")].find((of) => {
    const said = of.getAttribute("aria-label") ?? of.textContent!.trim().replace(/\s+/g, " ");
    return typeof name === "string" ? said === name : name.test(said);
  })!;

/** The tick box of a label. */
export const box = (name: string) =>
  [...document.querySelectorAll("label")]
    .find((label) => label.textContent!.trim().startsWith(name))!
    .querySelector<HTMLInputElement>("input")!;

export const labels = () =>
  [...document.querySelectorAll("[aria-label]")].map((of) => of.getAttribute("aria-label"));

export function press(of: HTMLElement) {
  of.click();
  flushSync();
}

/** Picks an option of a list by its words. */
export async function choose(label: string, words: string) {
  const trigger = document.querySelector<HTMLElement>(`[aria-label="${label}"]`)!;
  trigger.dispatchEvent(new KeyboardEvent("keydown", { key: "ArrowDown", bubbles: true }));
  flushSync();
  await new Promise((resolve) => setTimeout(resolve, 20));
  const options = [...document.querySelectorAll<HTMLElement>("[role=option]")];
  const option = options.find((of) => of.textContent!.trim() === words)!;
  option.dispatchEvent(new PointerEvent("pointerup", { bubbles: true }));
  flushSync();
}
