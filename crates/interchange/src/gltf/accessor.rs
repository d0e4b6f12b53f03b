//! Buffer views and accessors, every index, count and length looked at before use.

use super::container::whole;
use super::{Gltf, MAX_COUNT, meshopt};
use serde_json::Value;
use std::borrow::Cow;

/// Most elements of an accessor without bytes in the file, which are all 0.
const MAX_EMPTY: usize = 1_000_000;

/// Elements of an accessor, ready to be read.
struct Elements<'a> {
    /// None: all 0.
    bytes: Option<&'a [u8]>,
    stride: usize,
    count: usize,
    kind: u64,
    components: usize,
    normalised: bool,
}

fn size_of(kind: u64) -> Option<usize> {
    match kind {
        5120 | 5121 => Some(1),
        5122 | 5123 => Some(2),
        5125 | 5126 => Some(4),
        _ => None,
    }
}

/// One number of a component type; whole ones as a fraction of the largest, if normalised.
fn number(bytes: &[u8], kind: u64, normalised: bool) -> f64 {
    let (value, most) = match kind {
        5120 => (f64::from(bytes[0] as i8), 127.0),
        5121 => (f64::from(bytes[0]), 255.0),
        5122 => (f64::from(i16::from_le_bytes([bytes[0], bytes[1]])), 32_767.0),
        5123 => (f64::from(u16::from_le_bytes([bytes[0], bytes[1]])), 65_535.0),
        5125 => (f64::from(u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])), 4_294_967_295.0),
        _ => (f64::from(f32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]])), 0.0),
    };
    if normalised && most > 0.0 { (value / most).max(-1.0) } else { value }
}

/// Largest value of a whole component type.
pub(super) fn largest(kind: u64) -> Option<f64> {
    match kind {
        5120 => Some(127.0),
        5121 => Some(255.0),
        5122 => Some(32_767.0),
        5123 => Some(65_535.0),
        _ => None,
    }
}

impl Elements<'_> {
    fn read(&self) -> Vec<f64> {
        let size = size_of(self.kind).expect("looked at when it was made");
        let Some(bytes) = self.bytes else { return vec![0.0; self.count * self.components] };
        let each = |i: usize| {
            (0..self.components)
                .map(move |part| number(&bytes[i * self.stride + part * size..], self.kind, self.normalised))
        };
        (0..self.count).flat_map(each).collect()
    }
}

/// Numbers of an attribute, `width` an element.
pub(super) struct Attribute {
    pub values: Vec<f64>,
    pub width: usize,
}

impl Gltf<'_> {
    /// The bytes of a buffer between two places.
    pub(super) fn buffer(&self, index: u64, from: usize, length: usize) -> Result<&[u8], String> {
        self.entry("buffers", index)?;
        let inside = usize::try_from(index).ok().and_then(|index| self.file.inside.get(index));
        let buffer = inside.and_then(Option::as_deref).unwrap_or(self.file.chunk);
        let bytes = from.checked_add(length).and_then(|to| buffer.get(from..to));
        bytes.ok_or_else(|| "is cut short: a part of its data lies outside the file".to_owned())
    }

    /// The bytes of a buffer view, and its stride.
    pub(super) fn view(&self, index: u64) -> Result<(Cow<'_, [u8]>, Option<usize>), String> {
        let view = self.entry("bufferViews", index)?;
        let stride = whole(&view["byteStride"]);
        if let Some(compressed) = meshopt::compressed(view) {
            return Ok((Cow::Borrowed(self.decoded.view(self, index, compressed)?), stride));
        }
        let buffer =
            view["buffer"].as_u64().ok_or_else(|| format!("has a buffer view {index} without a buffer"))?;
        let length = whole(&view["byteLength"]).unwrap_or(usize::MAX);
        Ok((Cow::Borrowed(self.buffer(buffer, whole(&view["byteOffset"]).unwrap_or(0), length)?), stride))
    }

    /// Number of elements of an accessor.
    pub(super) fn count(&self, index: u64) -> Result<usize, String> {
        let count = whole(&self.entry("accessors", index)?["count"]);
        count.ok_or_else(|| format!("has an accessor {index} without a count"))
    }

    /// The numbers of an accessor whose elements have one of these numbers of components.
    pub(super) fn accessor(&self, index: u64, components: &[usize]) -> Result<Vec<f64>, String> {
        let of = self.entry("accessors", index)?;
        let count = self.count(index)?;
        if count > MAX_COUNT {
            return Err(format!("has {count} elements in accessor {index}; at most {MAX_COUNT}"));
        }
        let has = match of["type"].as_str() {
            Some("SCALAR") => 1,
            Some("VEC2") => 2,
            Some("VEC3") => 3,
            Some("VEC4") => 4,
            _ => 0,
        };
        if !components.contains(&has) {
            return Err(format!("has an accessor {index} of another type than its use needs"));
        }
        if of["bufferView"].is_null() && count > MAX_EMPTY {
            return Err(format!(
                "has {count} elements without bytes in accessor {index}; at most {MAX_EMPTY}"
            ));
        }
        let kind = of["componentType"].as_u64().unwrap_or(0);
        size_of(kind).ok_or_else(|| format!("has an accessor {index} of an unknown component type"))?;
        let normalised = of["normalized"].as_bool().unwrap_or(false);
        let make = |bytes: Option<&[u8]>, offset: usize, stride: usize, count: usize, kind, components| {
            let element = size_of(kind).unwrap_or(4) * components;
            let stride = stride.max(element);
            let bytes = match bytes {
                None => None,
                Some(bytes) => {
                    let needed =
                        count.checked_sub(1).map_or(Some(0), |n| n.checked_mul(stride)?.checked_add(element));
                    let rest = bytes.get(offset.min(bytes.len())..).unwrap_or_default();
                    if offset > bytes.len() || needed.is_none_or(|needed| needed > rest.len()) {
                        return Err(format!("has an accessor {index} that lies outside its buffer view"));
                    }
                    Some(rest)
                }
            };
            Ok(Elements { bytes, stride, count, kind, components, normalised }.read())
        };
        let offset = |value: &Value| whole(value).unwrap_or(0);
        let view = of["bufferView"].as_u64().map(|view| self.view(view)).transpose()?;
        let (bytes, stride) =
            view.as_ref().map_or((None, 0), |(bytes, stride)| (Some(&**bytes), stride.unwrap_or(0)));
        let mut values = make(bytes, offset(&of["byteOffset"]), stride, count, kind, has)?;
        let sparse = &of["sparse"];
        if sparse.is_object() {
            let changed = whole(&sparse["count"]).filter(|changed| *changed <= count);
            let changed =
                changed.ok_or_else(|| format!("has an accessor {index} with more changes than elements"))?;
            let part = |key: &str| -> Result<(Cow<'_, [u8]>, usize), String> {
                let view = sparse[key]["bufferView"].as_u64();
                let view =
                    view.ok_or_else(|| format!("has an accessor {index} whose changes lie nowhere"))?;
                Ok((self.view(view)?.0, offset(&sparse[key]["byteOffset"])))
            };
            let ((at, at_offset), (new, new_offset)) = (part("indices")?, part("values")?);
            let index_kind = sparse["indices"]["componentType"].as_u64().unwrap_or(0);
            if ![5121, 5123, 5125].contains(&index_kind) {
                return Err(format!("has an accessor {index} whose changes are not numbered"));
            }
            let positions = make(Some(&*at), at_offset, 0, changed, index_kind, 1)?;
            let new = make(Some(&*new), new_offset, 0, changed, kind, has)?;
            for (i, position) in positions.into_iter().enumerate() {
                let position = position as usize;
                if position >= count {
                    return Err(format!(
                        "has an accessor {index} that changes element {position} of {count}"
                    ));
                }
                values[position * has..(position + 1) * has].copy_from_slice(&new[i * has..(i + 1) * has]);
            }
        }
        Ok(values)
    }
}
