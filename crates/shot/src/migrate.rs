//! Older versions of the shot file, one step a version.

use serde_json::{Map, Value, json};

/// Version 1 had keys in place of a value, gravity as a kind of its own, the
/// let-go as a frame, and an aim for cameras only.
pub(crate) fn from_1(shot: &mut Value) {
    shot["version"] = json!(2);
    for element in shot.get_mut("elements").and_then(Value::as_array_mut).into_iter().flatten() {
        let mut motion = Map::new();
        if let Some(placement) = element.get_mut("placement").and_then(Value::as_object_mut) {
            for (name, value) in placement.iter_mut() {
                if value.is_object() {
                    let first = value.pointer("/keys/0/value").cloned().unwrap_or_else(|| json!([0, 0, 0]));
                    motion.insert(format!("placement.{name}"), std::mem::replace(value, first));
                }
            }
        }
        if let Some(acceleration) = element.pointer("/is/gravity/acceleration").cloned() {
            element["is"] = json!({"force": {"kind": {"gravity": {"acceleration": acceleration}}}});
        }
        let camera = element.pointer_mut("/is/camera").and_then(Value::as_object_mut);
        let aim = camera.and_then(|camera| camera.remove("aim")).filter(|aim| !aim.is_null());
        if let Some(aim) = aim {
            element["aim"] = json!({"at": aim});
        }
        if let Some(body) = element.pointer_mut("/is/solid/body").and_then(Value::as_object_mut)
            && let Some(frame) = body.remove("let_go_frame").filter(|frame| !frame.is_null())
            && body.get("moves") == Some(&json!("animated"))
        {
            body.insert("wake".to_owned(), json!({"frame": frame}));
        }
        if let (false, Some(element)) = (motion.is_empty(), element.as_object_mut()) {
            element.insert("motion".to_owned(), Value::Object(motion));
        }
    }
}
