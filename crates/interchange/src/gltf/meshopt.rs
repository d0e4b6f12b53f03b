//! Buffer views compressed by `EXT_meshopt_compression` or `KHR_meshopt_compression`.

use super::Gltf;
use super::container::whole;
use meshopt as codec;
use serde_json::Value;
use std::cell::{Cell, OnceCell};

/// Extensions that hold a compressed buffer view.
pub(super) const EXTENSIONS: [&str; 2] = ["EXT_meshopt_compression", "KHR_meshopt_compression"];
/// Most bytes of all decoded buffer views.
const MAX_DECODED: usize = 160 << 20;
/// Largest element of a vertex buffer, bytes.
const MAX_STRIDE: usize = 128;

/// What describes the compressed bytes of a buffer view, if it has any.
pub(super) fn compressed(view: &Value) -> Option<&Value> {
    EXTENSIONS.iter().find_map(|name| view["extensions"].get(name))
}

/// Buffer views decoded so far, by index.
pub(super) struct Decoded {
    views: Vec<OnceCell<Vec<u8>>>,
    bytes: Cell<usize>,
}

impl Decoded {
    pub fn new(views: usize) -> Self {
        Self { views: vec![OnceCell::new(); views], bytes: Cell::new(0) }
    }

    pub fn view(&self, gltf: &Gltf, index: u64, of: &Value) -> Result<&[u8], String> {
        let cell = usize::try_from(index).ok().and_then(|index| self.views.get(index));
        let cell = cell.ok_or_else(|| format!("names bufferViews {index}, which is not there"))?;
        if let Some(bytes) = cell.get() {
            return Ok(bytes);
        }
        let size =
            whole(&of["count"]).zip(whole(&of["byteStride"])).and_then(|(n, each)| n.checked_mul(each));
        let total =
            size.and_then(|size| self.bytes.get().checked_add(size)).filter(|all| *all <= MAX_DECODED);
        let total = total.ok_or_else(|| format!("decompresses to more than {} MB", MAX_DECODED >> 20))?;
        let bytes = decode(gltf, index, of)?;
        self.bytes.set(total);
        Ok(cell.get_or_init(|| bytes))
    }
}

fn decode(gltf: &Gltf, index: u64, of: &Value) -> Result<Vec<u8>, String> {
    let number = |key: &str| whole(&of[key]).unwrap_or(0);
    let (count, stride) = (number("count"), number("byteStride"));
    let encoded =
        gltf.buffer(of["buffer"].as_u64().unwrap_or(0), number("byteOffset"), number("byteLength"))?;
    let broken = || format!("has a buffer view {index} whose compressed data is damaged");
    let mut bytes = match (of["mode"].as_str(), stride) {
        (Some("ATTRIBUTES"), 4..=MAX_STRIDE) if stride.is_multiple_of(4) => vertices(encoded, count, stride),
        (Some("TRIANGLES"), 2) if count.is_multiple_of(3) => {
            codec::decode_index_buffer::<u16>(encoded, count).ok().map(|list| le(&list, u16::to_le_bytes))
        }
        (Some("TRIANGLES"), 4) if count.is_multiple_of(3) => {
            codec::decode_index_buffer::<u32>(encoded, count).ok().map(|list| le(&list, u32::to_le_bytes))
        }
        (Some("INDICES"), 2) => {
            codec::decode_index_sequence::<u16>(encoded, count).ok().map(|list| le(&list, u16::to_le_bytes))
        }
        (Some("INDICES"), 4) => {
            codec::decode_index_sequence::<u32>(encoded, count).ok().map(|list| le(&list, u32::to_le_bytes))
        }
        _ => None,
    }
    .ok_or_else(broken)?;
    match (of["filter"].as_str().unwrap_or("NONE"), stride) {
        ("NONE", _) => {}
        ("OCTAHEDRAL", 4) => filter(
            &mut bytes,
            codec::decode_filter_oct::<i8>,
            |b: [u8; 4]| b.map(|b| b as i8),
            |v| v.map(|v| v as u8),
        ),
        ("OCTAHEDRAL", 8) => filter(&mut bytes, codec::decode_filter_oct::<i16>, shorts, from_shorts),
        ("COLOR", 4) => filter(&mut bytes, codec::decode_filter_color::<u8>, |b: [u8; 4]| b, |v| v),
        ("QUATERNION", 8) => filter(&mut bytes, codec::decode_filter_quat, shorts, from_shorts),
        ("EXPONENTIAL", _) => filter(
            &mut bytes,
            codec::decode_filter_exp::<1>,
            |bytes: [u8; 4]| [u32::from_le_bytes(bytes)],
            |[value]| value.to_le_bytes(),
        ),
        (name, _) => {
            let name: String = name.chars().take(40).collect();
            return Err(format!(
                "has a buffer view {index} with the filter {name}, which is not known for its stride"
            ));
        }
    }
    Ok(bytes)
}

fn le<T: Copy, const N: usize>(list: &[T], bytes: impl Fn(T) -> [u8; N]) -> Vec<u8> {
    list.iter().flat_map(|value| bytes(*value)).collect()
}

fn shorts(b: [u8; 8]) -> [i16; 4] {
    [0, 2, 4, 6].map(|i| i16::from_le_bytes([b[i], b[i + 1]]))
}

fn from_shorts(v: [i16; 4]) -> [u8; 8] {
    let mut bytes = [0; 8];
    for (two, value) in bytes.chunks_exact_mut(2).zip(v) {
        two.copy_from_slice(&value.to_le_bytes());
    }
    bytes
}

/// Applies a filter to elements of `N` bytes, in pieces so that little is copied.
fn filter<T, const N: usize>(
    bytes: &mut [u8],
    apply: fn(&mut [T]),
    read: impl Fn([u8; N]) -> T,
    write: impl Fn(T) -> [u8; N],
) {
    for piece in bytes.chunks_mut(N * 4_096) {
        let mut values: Vec<T> =
            piece.chunks_exact(N).map(|b| read(b.try_into().expect("N bytes"))).collect();
        apply(&mut values);
        for (bytes, value) in piece.chunks_exact_mut(N).zip(values) {
            bytes.copy_from_slice(&write(value));
        }
    }
}

/// Decodes vertices of `stride` bytes; none if they are damaged.
fn vertices(encoded: &[u8], count: usize, stride: usize) -> Option<Vec<u8>> {
    /// The codec takes the stride from a type: one for each number of words.
    macro_rules! by_words {
        ($($words:literal)*) => {
            match stride / 4 {
                $($words => codec::decode_vertex_buffer::<[u32; $words]>(encoded, count)
                    .ok()
                    .map(|list| list.into_iter().flatten().flat_map(u32::to_le_bytes).collect()),)*
                _ => None,
            }
        };
    }
    by_words!(1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20 21 22 23 24 25 26 27 28 29 30 31 32)
}
