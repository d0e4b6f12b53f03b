//! The file as its JSON and its buffers: binary (GLB), or text with buffers inside.

use base64::Engine;
use serde_json::Value;
use shot::json::{MAX_JSON_MEMORY, json_memory};

/// A file taken apart.
pub(super) struct Container<'a> {
    pub json: Value,
    /// The binary chunk of a GLB file.
    pub chunk: &'a [u8],
    /// Buffers inside the JSON, by index.
    pub inside: Vec<Option<Vec<u8>>>,
}

impl<'a> Container<'a> {
    pub fn read(bytes: &'a [u8]) -> Result<Self, String> {
        let (json, chunk) = split(bytes)?;
        let buffers = json["buffers"].as_array().map_or(&[][..], Vec::as_slice);
        let inside = buffers.iter().take(MAX_BUFFERS).map(inside).collect::<Result<_, _>>()?;
        Ok(Self { json, chunk, inside })
    }
}

/// Most buffers of a file.
const MAX_BUFFERS: usize = 1_000;

fn split(bytes: &[u8]) -> Result<(Value, &[u8]), String> {
    let broken = |what: &str| format!("not a glTF file: {what}");
    let text = |bytes: &[u8]| {
        let memory = json_memory(bytes);
        if memory > MAX_JSON_MEMORY {
            return Err(format!(
                "has JSON whose values would take {} MB; at most {} MB",
                memory >> 20,
                MAX_JSON_MEMORY >> 20
            ));
        }
        serde_json::from_slice::<Value>(bytes).map_err(|error| broken(&error.to_string()))
    };
    let Some(rest) = bytes.strip_prefix(b"glTF") else {
        if bytes.trim_ascii_start().starts_with(b"{") {
            return Ok((text(bytes)?, &[]));
        }
        return Err(broken("it does not begin as one"));
    };
    let mut rest = rest.get(8..).ok_or_else(|| broken("it is cut short"))?;
    let (mut json, mut chunk) = (None, &[][..]);
    while rest.len() >= 8 {
        let length = u32::from_le_bytes(rest[..4].try_into().expect("4 bytes")) as usize;
        let content =
            rest.get(8..8usize.saturating_add(length)).ok_or_else(|| broken("a chunk is cut short"))?;
        match &rest[4..8] {
            b"JSON" if json.is_none() => json = Some(text(content)?),
            b"BIN\0" => chunk = content,
            _ => {}
        }
        rest = &rest[8 + length..];
    }
    Ok((json.ok_or_else(|| broken("it has no JSON"))?, chunk))
}

/// The bytes of a buffer that is a data URI.
fn inside(buffer: &Value) -> Result<Option<Vec<u8>>, String> {
    buffer
        .get("uri")
        .and_then(Value::as_str)
        .map_or(Ok(None), |uri| data_uri(uri).map(|(_, bytes)| Some(bytes)))
}

/// Media type and bytes of a base64 data URI (RFC 2397).
pub(super) fn data_uri(uri: &str) -> Result<(&str, Vec<u8>), String> {
    let data = uri.strip_prefix("data:").and_then(|rest| rest.split_once(";base64,"));
    let Some((kind, data)) = data else {
        let uri: String = uri.chars().take(40).collect();
        return Err(format!("keeps its data in another file, {uri}; save it as .glb"));
    };
    let bytes = base64::engine::general_purpose::STANDARD.decode(data);
    Ok((kind, bytes.map_err(|error| format!("has data that is not base64: {error}"))?))
}

/// A whole number of the JSON as a count or an offset.
pub(super) fn whole(value: &Value) -> Option<usize> {
    value.as_u64().and_then(|value| usize::try_from(value).ok())
}
