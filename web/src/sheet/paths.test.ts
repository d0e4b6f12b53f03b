// Every path that a part of the Sheet names is one of the shot's description.
import { expect, test } from "vitest";
import description from "../api/openapi.json";

interface Schema {
  $ref?: string;
  oneOf?: Schema[];
  anyOf?: Schema[];
  allOf?: Schema[];
  properties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  prefixItems?: Schema[];
}

const schemas = description.components.schemas as unknown as Record<string, Schema>;
const parts = import.meta.glob("./*.svelte", { query: "?raw", import: "default", eager: true }) as Record<
  string,
  string
>;

/** What a schema may be: itself and all that it refers to or chooses from. */
function meanings(schema: Schema): Schema[] {
  if (schema.$ref) return meanings(schemas[schema.$ref.split("/").pop()!]);
  const choices = [...(schema.oneOf ?? []), ...(schema.anyOf ?? []), ...(schema.allOf ?? [])];
  return [schema, ...choices.flatMap(meanings)];
}

/** What lies below a schema under a name; `*` stands for any one. */
function below(schema: Schema, part: string): Schema[] {
  return meanings(schema).flatMap(({ properties = {}, additionalProperties, items, prefixItems }) => {
    if (part === "*") return [...Object.values(properties), ...(items ? [items] : [])];
    const found = [properties[part]];
    if (typeof additionalProperties === "object") found.push(additionalProperties);
    if (/^(\d+|-)$/.test(part)) found.push(items ?? prefixItems?.[0] ?? (undefined as unknown as Schema));
    return found.filter((schema) => schema !== undefined);
  });
}

function described(path: string): boolean {
  const [root, ...parts] = path.split(/[./[\]]+/).filter((part) => part !== "");
  // Where a part is told its path, any schema may lie there.
  let at = root === "*" ? Object.values(schemas) : below(schemas.Element, root);
  for (const part of parts) at = at.flatMap((schema) => below(schema, part));
  return at.length > 0;
}

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
