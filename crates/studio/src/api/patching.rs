//! JSON Patch (RFC 6902) with bounds: a few operations can copy a document
//! into itself until it fills the memory, or nest it until the stack ends.

use crate::error::{Error, Result};
use json_patch::{Patch, PatchOperation, patch};
use serde_json::Value;
use std::slice::from_ref;

/// Most operations of a patch.
const MAX_OPERATIONS: usize = 10_000;
/// Deepest path; no value of a shot lies deeper.
const MAX_DEPTH: usize = 64;
/// Most bytes that the values of a document take as JSON, about.
const MAX_BYTES: usize = shot::MAX_BYTES;

/// Applies a patch; what a refused one leaves in `document` is of no use.
///
/// # Errors
/// [`Error::Bad`] with the operation that cannot be applied.
pub(super) fn apply(document: &mut Value, of: &Patch) -> Result<()> {
    let bad = |what: String| Error::Bad(format!("the patch: {what}"));
    if of.0.len() > MAX_OPERATIONS {
        return Err(bad(format!("it has {} operations; at most {MAX_OPERATIONS}", of.0.len())));
    }
    let mut bytes = size(document);
    for (i, operation) in of.0.iter().enumerate() {
        let levels = operation.path().tokens().count();
        if levels > MAX_DEPTH {
            return Err(bad(format!("operation {i}: its path is deeper than {MAX_DEPTH}")));
        }
        // The value that the operation puts at its path.
        let put = match operation {
            PatchOperation::Add(add) => Some(&add.value),
            PatchOperation::Replace(replace) => Some(&replace.value),
            PatchOperation::Copy(copy) => copy.from.resolve(document).ok(),
            PatchOperation::Move(from) => from.from.resolve(document).ok(),
            PatchOperation::Remove(_) | PatchOperation::Test(_) => None,
        };
        if put.is_some_and(|value| levels + depth(value) > 2 * MAX_DEPTH) {
            return Err(bad(format!("operation {i}: it nests values deeper than a shot does")));
        }
        // A moved value counts too: looking through it takes time.
        bytes += put.map_or(0, size);
        if bytes > MAX_BYTES {
            return Err(bad(format!(
                "operation {i}: the document and all that is put into it have more than {} MB",
                MAX_BYTES >> 20
            )));
        }
        patch(document, from_ref(operation)).map_err(|error| bad(error.to_string()))?;
    }
    Ok(())
}

/// Bytes of a value as JSON, about.
fn size(value: &Value) -> usize {
    match value {
        Value::Null | Value::Bool(_) => 4,
        Value::Number(_) => 12,
        Value::String(text) => text.len() + 2,
        Value::Array(list) => 2 + list.iter().map(|value| size(value) + 1).sum::<usize>(),
        Value::Object(map) => 2 + map.iter().map(|(key, value)| key.len() + 4 + size(value)).sum::<usize>(),
    }
}

/// Levels of a value; no more are looked at than matter.
fn depth(value: &Value) -> usize {
    fn within(value: &Value, left: usize) -> usize {
        let below: &mut dyn Iterator<Item = &Value> = match value {
            _ if left == 0 => return 1,
            Value::Array(list) => &mut list.iter(),
            Value::Object(map) => &mut map.values(),
            _ => return 1,
        };
        1 + below.map(|value| within(value, left - 1)).max().unwrap_or(0)
    }
    within(value, 2 * MAX_DEPTH)
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn patched(document: Value, of: Value) -> Result<Value> {
        let mut document = document;
        apply(&mut document, &serde_json::from_value(of).unwrap())?;
        Ok(document)
    }

    #[test]
    fn a_patch_is_applied_in_order() {
        let of = json!([{"op": "add", "path": "/b", "value": [1]}, {"op": "copy", "from": "/b", "path": "/c"}, {"op": "remove", "path": "/a"}]);
        assert_eq!(patched(json!({"a": 0}), of).unwrap(), json!({"b": [1], "c": [1]}));
        let missing = patched(json!({}), json!([{"op": "remove", "path": "/a"}]));
        assert!(missing.unwrap_err().to_string().starts_with("the patch: "));
    }

    #[test]
    fn copies_of_copies_are_refused_before_they_fill_the_memory() {
        let text = "x".repeat(200_000);
        let doubled: Vec<Value> =
            (0..26).map(|i| json!({"op": "copy", "from": "", "path": format!("/{i}")})).collect();
        let error = patched(json!({"text": text}), doubled.into()).unwrap_err().to_string();
        assert!(error.contains("the document and all that is put into it have more than"), "{error}");
    }

    #[test]
    fn nesting_is_bounded() {
        let nested: Vec<Value> =
            (0..300).map(|_| json!({"op": "move", "from": "/a", "path": "/b"})).collect();
        assert!(patched(json!({"a": 1}), nested.into()).is_err());
        let deeper: Vec<Value> = (0..200)
            .flat_map(|_| {
                [
                    json!({"op": "add", "path": "/b", "value": {}}),
                    json!({"op": "move", "from": "/a", "path": "/b/a"}),
                    json!({"op": "move", "from": "/b", "path": "/a"}),
                ]
            })
            .collect();
        let error = patched(json!({"a": 1}), deeper.into()).unwrap_err().to_string();
        assert!(error.contains("nests values deeper"), "{error}");
        let long = "/a".repeat(65);
        assert!(patched(json!({}), json!([{"op": "add", "path": long, "value": 1}])).is_err());
        let many: Vec<Value> = (0..10_001).map(|_| json!({"op": "test", "path": "/a", "value": 1})).collect();
        assert!(patched(json!({"a": 1}), many.into()).is_err());
    }
}
