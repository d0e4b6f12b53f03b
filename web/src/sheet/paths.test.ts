// Every path that a part of the Sheet names is one of the shot's description.
import { expect, test } from "vitest";
import { described } from "../api/described";

const parts = import.meta.glob("./*.svelte", { query: "?raw", import: "default", eager: true }) as Record<
  string,
  string
>;

/** The paths that a part names through its own short functions, such as `at("friction")`. */
function pathsOf(source: string): string[] {
  const any = (text: string) => text.replaceAll(/\$\{[^}]*\}/g, "*");
  const shortcuts = source.matchAll(
    /const (\w+) = \((label: string, )?(?:path|part|of): string[^)]*\) =>\s*(?:\(\{.*?path: |shot\.set\(.*?, \[[^\]]*\], )`([^`]*)`/g,
  );
  return [...shortcuts].flatMap(([, name, labelled, template]) => {
    const before = labelled ? `"[^"]*",\\s*` : "";
    const calls = source.matchAll(
      new RegExp(`(?<!\\.)\\b${name}\\(\\s*${before}(?:"([^"]*)"|\`([^\`]*)\`)`, "g"),
    );
    return [...calls].map(([, plain, made]) => any(template.replace(/\$\{\w+\}$/, any(plain ?? made))));
  });
}

test("an old or mistyped path would be found", () => {
  expect(described("kind.particles.source.grid.count")).toBe(true);
  expect(described("kind.particles.from.grid.count")).toBe(false);
  const source =
    'const at = (path: string) => ({ element, path: `kind.solid.${path}` }); at("shape.box.size_m")';
  expect(pathsOf(source)).toEqual(["kind.solid.shape.box.size_m"]);
});

test("every path that the Sheet names is described", () => {
  const all = Object.entries(parts).flatMap(([file, source]) => pathsOf(source).map((path) => [file, path]));
  expect(all.length).toBeGreaterThan(100);
  expect(all.filter(([, path]) => !described(path))).toEqual([]);
});
