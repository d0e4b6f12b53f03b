// For tests: what the shot's description has, so that no old name stays in the page.
import description from "./openapi.json";

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

/** Whether an element may have a value at a path such as `kind.solid.body.friction`. */
export function described(path: string): boolean {
  const [root, ...parts] = path.split(/[./[\]]+/).filter((part) => part !== "");
  // Where a part is told its path, any schema may lie there.
  let at = root === "*" ? Object.values(schemas) : below(schemas.Element, root);
  for (const part of parts) at = at.flatMap((schema) => below(schema, part));
  return at.length > 0;
}

/** The paths of all that a value holds. */
export function pathsWithin(value: unknown, path = ""): string[] {
  if (typeof value !== "object" || value === null) return [path];
  return Object.entries(value).flatMap(([name, inner]) => pathsWithin(inner, `${path}.${name}`));
}
