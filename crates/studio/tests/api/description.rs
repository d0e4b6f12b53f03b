//! The description of the interface: what it says of the shot file.

use serde_json::Value;
use std::collections::BTreeSet;

/// Endings of names that state a unit.
const UNITS: [&str; 18] = [
    "_m", "_m2", "_m3", "_s", "_hz", "_kg", "_kg_m3", "_n", "_m_s", "_m_s2", "_rad", "_rad_s", "_ev",
    "_stops", "_mm", "_j", "_px", "_pa",
];

/// Words of a description that state a unit, or that there is none.
const WORDS: [&str; 26] = [
    "metres",
    "seconds",
    "newton",
    "radian",
    "hertz",
    "pixels",
    " m",
    " m/s",
    " rad",
    " kg",
    " N",
    " 1/s",
    "0–1",
    "0 to 1",
    "no unit",
    "ratio",
    "fraction",
    "number",
    "Number",
    "How many",
    "frame",
    "stops",
    "scene-linear",
    "Chooses",
    "f-number",
    " s,",
];

/// Names of numbers that count frames or pixels, or tell things apart.
const COUNTS: [&str; 13] = [
    "id", "version", "fps", "width", "height", "first", "last", "frame", "seed", "next", "element", "to",
    "into",
];

fn is_number(schema: &Value) -> bool {
    let kinds = match &schema["type"] {
        Value::Array(kinds) => kinds.clone(),
        kind => vec![kind.clone()],
    };
    let number = kinds.iter().any(|kind| kind == "number" || kind == "integer");
    number || kinds.iter().any(|kind| kind == "array") && is_number(&schema["items"])
}

fn states_unit(name: &str, description: &str) -> bool {
    UNITS.iter().any(|unit| name.ends_with(unit))
        || WORDS.iter().any(|word| description.contains(word))
        || COUNTS.contains(&name)
}

/// Goes through a schema and those it refers to, each once.
fn numbers_without_unit(schemas: &Value, name: &str, seen: &mut BTreeSet<String>, found: &mut Vec<String>) {
    if !seen.insert(name.to_owned()) {
        return;
    }
    let mut open = vec![(name.to_owned(), &schemas[name])];
    while let Some((path, schema)) = open.pop() {
        if let Some(reference) = schema["$ref"].as_str() {
            let target = reference.rsplit('/').next().unwrap_or_default();
            numbers_without_unit(schemas, target, seen, found);
        }
        for (field, schema) in schema["properties"].as_object().into_iter().flatten() {
            let path = format!("{path}.{field}");
            let description = schema["description"].as_str().unwrap_or_default();
            if is_number(schema) && !states_unit(field, description) {
                found.push(format!("{path}: {description}"));
            }
            open.push((path, schema));
        }
        for list in ["oneOf", "anyOf", "allOf", "prefixItems"] {
            let parts = schema[list].as_array().into_iter().flatten();
            open.extend(parts.map(|part| (path.clone(), part)));
        }
        let parts = ["items", "additionalProperties"].iter().filter_map(|part| schema.get(part));
        open.extend(parts.map(|part| (path.clone(), part)));
    }
}

#[test]
fn every_number_of_a_shot_file_states_its_unit() {
    let description = studio::api::description();
    let (mut seen, mut found) = (BTreeSet::new(), Vec::new());
    numbers_without_unit(&description["components"]["schemas"], "Shot", &mut seen, &mut found);
    assert!(seen.len() > 60, "only {} schemas were reached", seen.len());
    assert!(found.is_empty(), "numbers without a unit:\n{}", found.join("\n"));
}
