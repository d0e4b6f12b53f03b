//! Topologies as bytes, and those that are in use.
//!
//! ```text
//! "BRTOPOL2", u32 vertices, u32 faces, u32 bytes of what follows before compression
//! zstd: faces as of `face_codes.rs`;
//!       smoothing groups of the vertices, u32 zigzag differences from the one before;
//!       attributes
//! CRC-32 of all before it
//! ```
//!
//! "BRTOPOL1", of earlier versions, has the faces' vertex indices as u32 zigzag differences from the one before.
//!
//! Attributes are u32 count and for each: u8 domain (0 vertex, 1 face), u8 kind
//! (0 number, 1 pair, 2 vector, 3 flag), u16 length of the name, the name, the
//! values as f32, flags as u8.

use crate::error::DecodeError;
use crate::face_codes;
use crate::quantise::{unzigzag, zigzag};
use crate::table::u32_at;
use geometry::Topology;
use geometry::topology::{Attribute, AttributeValues, Domain};
use glam::{Vec2, Vec3};
use shot::fingerprint::Fingerprint;
use std::collections::HashMap;
use std::sync::{Arc, LazyLock, Mutex, PoisonError, Weak};

const MAGIC: &[u8; 8] = b"BRTOPOL2";
const EARLIER: &[u8; 8] = b"BRTOPOL1";
/// Most vertices or faces of a mesh.
const MAX_COUNT: usize = 1 << 24;
pub(crate) const MAX_BYTES: usize = 1 << 30;
const MAX_ATTRIBUTES: usize = 256;
/// Topologies that are kept though no frame holds them.
const KEPT: usize = 16;

const SHORT: DecodeError = DecodeError::NotAFrame("a topology is too short");

/// A topology as bytes.
pub(crate) fn encode(topology: &Topology) -> Vec<u8> {
    let mut content = face_codes::encode(topology.triangles());
    let mut before = 0;
    for group in topology.smooth() {
        content.extend_from_slice(&zigzag((*group as i32).wrapping_sub(before)).to_le_bytes());
        before = *group as i32;
    }
    content.extend(encode_attributes(topology.attributes()));
    let mut out = MAGIC.to_vec();
    for count in [topology.vertices(), topology.triangles().len(), content.len()] {
        out.extend_from_slice(&(count as u32).to_le_bytes());
    }
    out.extend(zstd::bulk::compress(&content, 3).expect("compression into memory does not fail"));
    out.extend_from_slice(&crc32fast::hash(&out).to_le_bytes());
    out
}

/// Bytes that a topology says it unpacks to.
pub(crate) fn unpacked(bytes: &[u8]) -> Result<usize, DecodeError> {
    if bytes.len() < 20 { Err(SHORT) } else { Ok(u32_at(bytes, 16) as usize) }
}

/// The topology from its bytes.
pub(crate) fn decode(bytes: &[u8]) -> Result<Topology, DecodeError> {
    let (body, sum) = bytes.split_last_chunk::<4>().ok_or(SHORT)?;
    let is_earlier = body.starts_with(EARLIER);
    if body.len() < 20 || !(is_earlier || body.starts_with(MAGIC)) {
        return Err(DecodeError::NotAFrame("a topology does not begin with BRTOPOL2"));
    }
    if crc32fast::hash(body) != u32::from_le_bytes(*sum) {
        return Err(DecodeError::Damaged);
    }
    let [vertices, faces, size] = [8, 12, 16].map(|at| u32_at(body, at) as usize);
    if vertices > MAX_COUNT || faces > MAX_COUNT || size > MAX_BYTES {
        return Err(DecodeError::NotAFrame("a topology is too large"));
    }
    let content = zstd::bulk::decompress(&body[20..], size).map_err(|_| SHORT)?;
    let list = |bytes: &[u8]| -> Vec<u32> {
        let mut before = 0i32;
        let values = bytes.chunks_exact(4).map(|four| {
            before = before.wrapping_add(unzigzag(u32_at(four, 0)));
            before as u32
        });
        values.collect()
    };
    let (triangles, rest) = if is_earlier {
        let (indices, rest) = content.split_at_checked(12 * faces).ok_or(SHORT)?;
        (list(indices).chunks_exact(3).map(|t| [t[0], t[1], t[2]]).collect(), rest)
    } else {
        face_codes::decode(&content, faces).ok_or(SHORT)?
    };
    let (groups, rest) = rest.split_at_checked(4 * vertices).ok_or(SHORT)?;
    let attributes = read_attributes(rest, vertices, faces)?;
    Topology::new(triangles, list(groups), attributes)
        .ok_or(DecodeError::NotAFrame("a topology names a vertex that is not there"))
}

/// Attributes as bytes.
pub(crate) fn encode_attributes(attributes: &[Attribute]) -> Vec<u8> {
    let mut out = (attributes.len() as u32).to_le_bytes().to_vec();
    for Attribute { name, domain, values } in attributes {
        let (kind, bytes): (u8, &[u8]) = match values {
            AttributeValues::Scalars(values) => (0, bytemuck::cast_slice(values)),
            AttributeValues::Pairs(values) => (1, bytemuck::cast_slice(values)),
            AttributeValues::Vectors(values) => (2, bytemuck::cast_slice(values)),
            AttributeValues::Flags(values) => (3, values),
        };
        out.extend_from_slice(&[*domain as u8, kind]);
        out.extend_from_slice(&(name.len() as u16).to_le_bytes());
        out.extend_from_slice(name.as_bytes());
        out.extend_from_slice(bytes);
    }
    out
}

/// Most bytes that the attributes of a mesh may have.
pub(crate) fn most_attribute_bytes(topology: &Topology) -> usize {
    let values = topology.vertices().max(topology.triangles().len());
    4 + MAX_ATTRIBUTES * (4 + usize::from(u16::MAX) + 12 * values)
}

/// The attributes of a mesh from their bytes.
pub(crate) fn decode_attributes(bytes: &[u8], topology: &Topology) -> Result<Vec<Attribute>, DecodeError> {
    read_attributes(bytes, topology.vertices(), topology.triangles().len())
}

fn read_attributes(bytes: &[u8], vertices: usize, faces: usize) -> Result<Vec<Attribute>, DecodeError> {
    let (count, mut rest) = bytes.split_at_checked(4).ok_or(SHORT)?;
    let count = u32_at(count, 0) as usize;
    if count > MAX_ATTRIBUTES {
        return Err(DecodeError::NotAFrame("a mesh has too many attributes"));
    }
    let mut attributes = Vec::new();
    for _ in 0..count {
        let (head, after) = rest.split_at_checked(4).ok_or(SHORT)?;
        let (name, after) =
            after.split_at_checked(usize::from(u16::from_le_bytes([head[2], head[3]]))).ok_or(SHORT)?;
        let (domain, n) = match head[0] {
            0 => (Domain::Vertex, vertices),
            1 => (Domain::Face, faces),
            _ => return Err(DecodeError::NotAFrame("an attribute has an unknown domain")),
        };
        let width = *[4, 8, 12, 1]
            .get(usize::from(head[1]))
            .ok_or(DecodeError::NotAFrame("an attribute has values of an unknown kind"))?;
        let (values, after) = after.split_at_checked(n * width).ok_or(SHORT)?;
        let number = |at: &[u8], i: usize| f32::from_bits(u32_at(at, 4 * i));
        let each = values.chunks_exact(width);
        let values = match head[1] {
            0 => AttributeValues::Scalars(each.map(|v| number(v, 0)).collect()),
            1 => AttributeValues::Pairs(each.map(|v| Vec2::new(number(v, 0), number(v, 1))).collect()),
            2 => AttributeValues::Vectors(
                each.map(|v| Vec3::new(number(v, 0), number(v, 1), number(v, 2))).collect(),
            ),
            _ => AttributeValues::Flags(values.to_vec()),
        };
        let name = std::str::from_utf8(name)
            .map_err(|_| DecodeError::NotAFrame("an attribute has a name that is no text"))?;
        attributes.push(Attribute { name: name.to_owned(), domain, values });
        rest = after;
    }
    if rest.is_empty() { Ok(attributes) } else { Err(DecodeError::NotAFrame("a mesh is too long")) }
}

#[derive(Default)]
struct Known {
    all: HashMap<Fingerprint, Weak<Topology>>,
    /// Those used last, the latest at the end.
    last: Vec<Arc<Topology>>,
}

static KNOWN: LazyLock<Mutex<Known>> = LazyLock::new(Mutex::default);

/// A topology that is in use.
pub fn known_topology(hash: Fingerprint) -> Option<Arc<Topology>> {
    KNOWN.lock().unwrap_or_else(PoisonError::into_inner).all.get(&hash).and_then(Weak::upgrade)
}

/// A topology as the one of its kind that is in use, so that a reader that knows the hash finds it.
pub(crate) fn in_use(topology: &Arc<Topology>) -> Arc<Topology> {
    shared(topology.hash(), || Ok::<_, std::convert::Infallible>(topology.clone()))
        .unwrap_or(topology.clone())
}

/// The one copy of a topology that all frames of the process share; `load` is
/// called if it is not in use.
pub(crate) fn shared<E>(
    hash: Fingerprint,
    load: impl FnOnce() -> Result<Arc<Topology>, E>,
) -> Result<Arc<Topology>, E> {
    let known = || KNOWN.lock().unwrap_or_else(PoisonError::into_inner);
    let found = known().all.get(&hash).and_then(Weak::upgrade);
    let topology = match found {
        Some(topology) => topology,
        None => load()?,
    };
    let mut known = known();
    known.all.retain(|_, topology| topology.strong_count() > 0);
    known.all.insert(hash, Arc::downgrade(&topology));
    known.last.retain(|other| other.hash() != hash);
    known.last.push(topology.clone());
    if known.last.len() > KEPT {
        known.last.remove(0);
    }
    Ok(topology)
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;

    fn topology() -> Topology {
        let mesh = primitive::cuboid(Vec3::ONE, 0.1);
        let base = Topology::of(&mesh);
        let (vertices, faces) = (base.vertices(), base.triangles().len());
        let mut attributes = base.attributes().to_vec();
        let mut add = |name: &str, domain, values| {
            attributes.push(Attribute { name: name.to_owned(), domain, values });
        };
        add("weight", Domain::Vertex, AttributeValues::Scalars(vec![0.25; vertices]));
        add("colour", Domain::Vertex, AttributeValues::Vectors(vec![Vec3::new(0.1, 0.2, 0.3); vertices]));
        add("sail", Domain::Face, AttributeValues::Flags((0..faces).map(|i| (i % 2) as u8).collect()));
        Topology::new(base.triangles().to_vec(), base.smooth().to_vec(), attributes).unwrap()
    }

    #[test]
    fn a_topology_of_an_earlier_version_is_read() {
        let topology = Topology::of(&primitive::torus(1.0, 0.3, 12));
        let mut content = Vec::new();
        let mut put = |values: Vec<u32>| {
            let mut before = 0;
            for value in values {
                content.extend_from_slice(&zigzag(value as i32 - before).to_le_bytes());
                before = value as i32;
            }
        };
        put(topology.triangles().as_flattened().to_vec());
        put(topology.smooth().to_vec());
        content.extend(encode_attributes(topology.attributes()));
        let mut bytes = b"BRTOPOL1".to_vec();
        for count in [topology.vertices(), topology.triangles().len(), content.len()] {
            bytes.extend_from_slice(&(count as u32).to_le_bytes());
        }
        bytes.extend(zstd::bulk::compress(&content, 3).unwrap());
        bytes.extend_from_slice(&crc32fast::hash(&bytes).to_le_bytes());
        assert_eq!(decode(&bytes).unwrap().hash(), topology.hash());
    }

    #[test]
    fn a_topology_comes_back_whole() {
        let topology = topology();
        let back = decode(&encode(&topology)).unwrap();
        assert_eq!(back, topology);
        assert_eq!((back.attributes(), back.triangles()), (topology.attributes(), topology.triangles()));
    }

    #[test]
    fn cut_or_altered_bytes_are_refused() {
        let bytes = encode(&topology());
        for end in 0..bytes.len() {
            assert!(decode(&bytes[..end]).is_err());
        }
        for at in 0..bytes.len() {
            let mut altered = bytes.clone();
            altered[at] ^= 4;
            assert!(decode(&altered).is_err(), "byte {at}");
        }
    }

    #[test]
    fn frames_share_one_copy() {
        let topology = Arc::new(topology());
        let load = || Ok::<_, ()>(Arc::new(decode(&encode(&topology)).unwrap()));
        let a = shared(topology.hash(), load).unwrap();
        let b = shared(topology.hash(), || Err(())).unwrap();
        assert!(Arc::ptr_eq(&a, &b));
    }
}
