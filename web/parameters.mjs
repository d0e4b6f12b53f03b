// Writes the declarations of parameters, by the paths of their values: from the description of the
// file (`x-parameter` at each field) to src/api/parameters.gen.json,
// or checks with `--check` that this was done. `*` stands for a number in a list.
import { readFileSync, writeFileSync } from "node:fs";

const { components } = JSON.parse(readFileSync("src/api/openapi.json", "utf8"));
const declarations = [];
const paths = {};

/** Walks what lies below a schema. A type holds no other of its own kind. */
function walk(schema, path, within) {
  if (schema["x-parameter"]) {
    // A float becomes one of seven digits again.
    const rounded = (value) => (typeof value === "number" ? Number(value.toPrecision(7)) : value);
    const standard = Array.isArray(schema.default) ? schema.default.map(rounded) : rounded(schema.default);
    const text = JSON.stringify({ ...schema["x-parameter"], default: standard ?? undefined });
    let at = declarations.indexOf(text);
    if (at < 0) at = declarations.push(text) - 1;
    // The points of a curve are values of their own.
    paths[schema.items?.items ? `${path}.*` : path] = at;
    return;
  }
  const name = schema.$ref?.split("/").pop();
  if (name) {
    if (!within.includes(name)) walk(components.schemas[name], path, [...within, name]);
    return;
  }
  for (const choice of [...(schema.oneOf ?? []), ...(schema.anyOf ?? []), ...(schema.allOf ?? [])])
    walk(choice, path, within);
  for (const [field, inner] of Object.entries(schema.properties ?? {}))
    walk(inner, path ? `${path}.${field}` : field, within);
  if (schema.items && !schema.properties) walk(schema.items, `${path}.*`, within);
}

walk(components.schemas.Element, "", ["Element"]);
for (const part of ["timing", "physics"]) walk(components.schemas.Shot.properties[part], part, ["Shot"]);
const order = (path) => JSON.parse(declarations[paths[path]]).order;
const rows = Object.keys(paths)
  .sort((a, b) => order(a) - order(b))
  .map((path) => `    ${JSON.stringify(path)}: ${paths[path]}`);
const list = declarations.map((text) => `    ${JSON.stringify({ ...JSON.parse(text), order: undefined })}`);
const text = `{\n  "declarations": [\n${list.join(",\n")}\n  ],\n  "paths": {\n${rows.join(",\n")}\n  }\n}\n`;
const file = "src/api/parameters.gen.json";
if (!process.argv.includes("--check")) writeFileSync(file, text);
else if (readFileSync(file, "utf8") !== text) {
  console.error(`web/${file} is not what the description of the file declares: run \`cargo xtask types\``);
  process.exit(1);
}
