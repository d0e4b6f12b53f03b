//! Meshes as bytes. A coordinate is the difference from a parallelogram of
//! neighbours (see [`geometry::topology::Traversal`]), so that each frame is
//! read alone and a smooth surface takes about a byte a vertex.
//!
//! A column is, for each axis, u32 number of large differences, with how often the step is halved in its highest
//! five bits, u32 length, and so many bytes: the differences in the order of the traversal, zigzag, a byte
//! each, compressed with zstd. A byte of 255 stands for a large difference;
//! these follow after the bytes, as u32.
//!
//! The attributes follow: u32 number of their bytes as of `topologies.rs`, and these bytes in four planes, packed by
//! zstd; without attributes the number is 0 and nothing follows.

use crate::error::DecodeError;
use crate::quantise::{POSITION_ERROR_M, VELOCITY_ERROR, halved, halvings, quantise, zigzag};
use crate::table::u32_at;
use crate::topologies;
use geometry::Topology;
use geometry::topology::{Attribute, Prediction};
use glam::Vec3;
use shot::fingerprint::Fingerprint;
use std::sync::Arc;
use wide::i32x4;

/// Name of the attribute that says how much of a mesh is there: scalars, by vertex, equal within each part that hangs
/// together. A fraction 0–1; a negative one is as much of the picture as that, but not where positive ones are seen:
/// parts with w and w − 1 share the picture.
pub const OPACITY: &str = "opacity";

/// A mesh at one frame, in the frame of its element's bodies.
#[derive(Clone, Debug, PartialEq)]
pub struct MeshState {
    /// Its faces and constant attributes.
    pub topology: Arc<Topology>,
    /// Vertex positions, m.
    pub positions: Vec<Vec3>,
    /// Velocities of the vertices against the body, m/s.
    pub velocities: Vec<Vec3>,
    /// Attributes that change with time.
    pub attributes: Vec<Attribute>,
}

impl MeshState {
    /// The mesh with its normals.
    pub fn mesh(&self) -> geometry::Mesh {
        self.topology.mesh_at(self.positions.clone())
    }
}

/// Bytes before the columns: the hash of the topology.
pub(crate) const HASH: usize = 16;
const LARGE: u32 = 255;
/// Steps of a position to the mean edge of a mesh, at least: the surface of a liquid, whose edges are over half a spacing long, so has
/// an error of under a hundredth of that.
const EDGE_STEPS: f32 = 25.0;
/// The bits of the number of large differences, of which there may be that many.
const COUNT_BITS: u32 = 27;

/// Positions and velocities with the hash of the topology.
pub(crate) fn encode(mesh: &MeshState) -> Vec<u8> {
    let mut out = mesh.topology.hash().0.to_vec();
    let positions_halved = halvings(2.0 * POSITION_ERROR_M, mean_edge_m(mesh) / EDGE_STEPS);
    column(&mesh.topology, &mesh.positions, (2.0 * POSITION_ERROR_M, positions_halved), &mut out);
    column(&mesh.topology, &mesh.velocities, (2.0 * VELOCITY_ERROR, 0), &mut out);
    pack_attributes(&mesh.attributes, &mut out);
    out
}

/// The mean length of the first edges of its faces, m; 0 without a face.
fn mean_edge_m(mesh: &MeshState) -> f32 {
    let faces = mesh.topology.triangles();
    let place = |v: u32| mesh.positions.get(v as usize).copied().unwrap_or_default();
    let sum: f64 = faces.iter().map(|t| f64::from(place(t[0]).distance(place(t[1])))).sum();
    (sum / faces.len().max(1) as f64) as f32
}

/// The hash at the start of an encoded mesh.
pub(crate) fn hash_of(bytes: &[u8]) -> Result<Fingerprint, DecodeError> {
    bytes.first_chunk::<HASH>().map(|hash| Fingerprint(*hash)).ok_or(SHORT)
}

/// Decodes into the memory of another mesh of the same topology.
pub(crate) fn decode(bytes: &[u8], mesh: &mut MeshState) -> Result<(), DecodeError> {
    let mut rest = bytes.get(HASH..).ok_or(SHORT)?;
    let order = &mesh.topology.traversal().order;
    let mut steps = Vec::new();
    read_column(order, &mut rest, 2.0 * POSITION_ERROR_M, &mut steps, &mut mesh.positions)?;
    read_column(order, &mut rest, 2.0 * VELOCITY_ERROR, &mut steps, &mut mesh.velocities)?;
    mesh.attributes = unpack_attributes(rest, &mesh.topology)?;
    Ok(())
}

const SHORT: DecodeError = DecodeError::NotAFrame("a mesh is too short");

fn pack_attributes(attributes: &[Attribute], out: &mut Vec<u8>) {
    if attributes.is_empty() {
        return out.extend(0u32.to_le_bytes());
    }
    let bytes = topologies::encode_attributes(attributes);
    out.extend((bytes.len() as u32).to_le_bytes());
    // Bytes of equal weight stand together: high ones are alike.
    let planes: Vec<u8> = (0..4).flat_map(|plane| bytes.iter().copied().skip(plane).step_by(4)).collect();
    out.extend(zstd::bulk::compress(&planes, 3).expect("compression into memory does not fail"));
}

fn unpack_attributes(bytes: &[u8], topology: &Topology) -> Result<Vec<Attribute>, DecodeError> {
    let (length, packed) = bytes.split_at_checked(4).ok_or(SHORT)?;
    let length = u32_at(length, 0) as usize;
    if length == 0 {
        return if packed.is_empty() { Ok(Vec::new()) } else { Err(LONG) };
    }
    if length > topologies::most_attribute_bytes(topology) {
        return Err(DecodeError::NotAFrame("a mesh has too many attributes"));
    }
    let planes = zstd::bulk::decompress(packed, length)
        .ok()
        .filter(|planes| planes.len() == length)
        .ok_or(DecodeError::NotAFrame("the attributes of a mesh do not unpack"))?;
    let mut bytes = vec![0; length];
    let mut from = planes.iter();
    for plane in 0..4 {
        bytes.iter_mut().skip(plane).step_by(4).zip(&mut from).for_each(|(byte, value)| *byte = *value);
    }
    topologies::decode_attributes(&bytes, topology)
}

const LONG: DecodeError = DecodeError::NotAFrame("a mesh is too long");

fn column(topology: &Topology, values: &[Vec3], (step, times): (f32, u8), out: &mut Vec<u8>) {
    let step = halved(step, times);
    let steps = |v: &Vec3| v.to_array().map(|value| quantise(value, step, 31));
    let steps: Vec<[i32; 3]> = values.iter().map(steps).collect();
    let order = &topology.traversal().order;
    for axis in 0..3 {
        let (mut packed, mut large) = (Vec::with_capacity(order.len()), Vec::new());
        for (i, Prediction { vertex, from }) in order.iter().enumerate() {
            let at = |v: u32| steps[v as usize][axis];
            let [a, b, c] = *from;
            let foreseen = if i == 0 { 0 } else { at(a).wrapping_add(at(b)).wrapping_sub(at(c)) };
            let difference = zigzag(at(*vertex).wrapping_sub(foreseen));
            packed.push(difference.min(LARGE) as u8);
            if difference >= LARGE {
                large.push(difference);
            }
        }
        large.iter().for_each(|value| packed.extend_from_slice(&value.to_le_bytes()));
        let packed = zstd::bulk::compress(&packed, 3).expect("compression into memory does not fail");
        out.extend_from_slice(&(large.len() as u32 | u32::from(times) << COUNT_BITS).to_le_bytes());
        out.extend_from_slice(&(packed.len() as u32).to_le_bytes());
        out.extend_from_slice(&packed);
    }
}

fn read_column(
    order: &[Prediction],
    rest: &mut &[u8],
    step: f32,
    steps: &mut Vec<i32x4>,
    values: &mut Vec<Vec3>,
) -> Result<(), DecodeError> {
    let n = order.len();
    let mut axes: [Vec<u8>; 3] = Default::default();
    let mut times = 0;
    for axis in &mut axes {
        let (head, body) = rest.split_at_checked(8).ok_or(SHORT)?;
        let (count, length) = (u32_at(head, 0), u32_at(head, 4) as usize);
        let large = (count & ((1 << COUNT_BITS) - 1)) as usize;
        times = (count >> COUNT_BITS) as u8;
        if large > n {
            return Err(DecodeError::NotAFrame("a mesh has more large differences than vertices"));
        }
        let (packed, after) = body.split_at_checked(length).ok_or(SHORT)?;
        *rest = after;
        let size = n + 4 * large;
        *axis = zstd::bulk::decompress(packed, size)
            .map_err(|_| DecodeError::NotAFrame("a mesh does not unpack"))?;
        if axis.len() != size || with_large([&axis[..n], &[], &[]]).len() != large {
            return Err(SHORT);
        }
    }
    let step = halved(step, times);
    if values.len() != n {
        values.resize(n, Vec3::ZERO);
    }
    steps.resize(n, i32x4::ZERO);
    if let Some(first) = order.first() {
        // The first prediction is of its own vertex.
        steps[first.vertex as usize] = i32x4::ZERO;
    }
    let [x, y, z] = axes.each_ref().map(|bytes| &bytes[..n]);
    let (mut next, mut from) = ([n; 3], 0);
    let small = |i: usize| [u32::from(x[i]), u32::from(y[i]), u32::from(z[i]), 0];
    // No look for large differences between two of them.
    for at in with_large([x, y, z]).into_iter().chain([n]) {
        let bytes = x[from..at].iter().zip(&y[from..at]).zip(&z[from..at]);
        let differences = bytes.map(|((&x, &y), &z)| [u32::from(x), u32::from(y), u32::from(z), 0]);
        rebuild(&order[from..at], differences, step, steps, values);
        if at < n {
            let mut difference = small(at);
            for axis in 0..3 {
                if difference[axis] == LARGE {
                    difference[axis] = u32_at(&axes[axis], next[axis]);
                    next[axis] += 4;
                }
            }
            rebuild(&order[at..=at], std::iter::once(difference), step, steps, values);
        }
        from = at + 1;
    }
    Ok(())
}

/// The places at which one of three columns has a large difference, rising.
fn with_large(columns: [&[u8]; 3]) -> Vec<usize> {
    const CHUNK: usize = 512;
    let mut places = Vec::new();
    for column in columns {
        for (k, chunk) in column.chunks(CHUNK).enumerate() {
            if chunk.contains(&(LARGE as u8)) {
                let large = chunk.iter().enumerate().filter(|(_, byte)| **byte == LARGE as u8);
                places.extend(large.map(|(i, _)| k * CHUNK + i));
            }
        }
    }
    places.sort_unstable();
    places.dedup();
    places
}

/// Rebuilds a column from its zigzag differences.
#[inline(always)]
fn rebuild(
    order: &[Prediction],
    differences: impl Iterator<Item = [u32; 4]>,
    step: f32,
    steps: &mut [i32x4],
    values: &mut [Vec3],
) {
    for (prediction, zigzag) in order.iter().zip(differences) {
        let [a, b, c] = prediction.from;
        let difference = i32x4::new(zigzag.map(|value| (value >> 1) as i32 ^ -((value & 1) as i32)));
        let value = steps[a as usize] + steps[b as usize] - steps[c as usize] + difference;
        steps[prediction.vertex as usize] = value;
        let [x, y, z, _] = (value.round_float() * step).to_array();
        values[prediction.vertex as usize] = Vec3::new(x, y, z);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::topology::{AttributeValues, Domain};
    use geometry::{Mesh, primitive};
    use proptest::prelude::*;

    fn state(mesh: &Mesh, positions: Vec<Vec3>, velocities: Vec<Vec3>) -> MeshState {
        let topology = Arc::new(Topology::of(mesh));
        MeshState { topology, positions, velocities, attributes: Vec::new() }
    }

    fn again(mesh: &MeshState) -> MeshState {
        let (topology, none) = (mesh.topology.clone(), Vec::new);
        let mut back = MeshState { topology, positions: none(), velocities: none(), attributes: Vec::new() };
        decode(&encode(mesh), &mut back).unwrap();
        back
    }

    proptest! {
        /// Whatever the vertices do, they come back within the stated errors.
        #[test]
        fn a_mesh_comes_back_within_its_error(
            noise in proptest::collection::vec((-3e3f32..3e3, -0.1f32..0.1, -20f32..20.0), 26),
        ) {
            let mesh = primitive::torus(1.0, 0.3, 24);
            let at = |i: usize| Vec3::from(noise[i % noise.len()]);
            let positions = mesh.positions.iter().enumerate().map(|(i, p)| *p + at(i)).collect();
            let velocities = (0..mesh.positions.len()).map(|i| at(i + 7)).collect();
            let mesh = state(&mesh, positions, velocities);
            let back = again(&mesh);
            for i in 0..mesh.positions.len() {
                let (p, v) = (mesh.positions[i], mesh.velocities[i]);
                // An f32 at 3 km is known to 0.25 mm.
                let rounding = p.abs().max_element() * f32::EPSILON;
                prop_assert!((back.positions[i] - p).abs().max_element() <= 1.01 * POSITION_ERROR_M + rounding);
                prop_assert!((back.velocities[i] - v).abs().max_element() <= 1.01 * VELOCITY_ERROR + v.length() * 2e-7);
            }
            // What was rounded once is not rounded again.
            prop_assert_eq!(again(&back), back);
        }
    }

    #[test]
    fn attributes_come_back_and_equal_ones_take_next_to_nothing() {
        let mesh = primitive::torus(1.0, 0.3, 64);
        let mut mesh = state(&mesh, mesh.positions.clone(), mesh.positions.clone());
        let without = encode(&mesh).len();
        let n = mesh.positions.len();
        let scalars = |name: &str, of: &dyn Fn(usize) -> f32| Attribute {
            name: name.to_owned(),
            domain: Domain::Vertex,
            values: AttributeValues::Scalars((0..n).map(of).collect()),
        };
        mesh.attributes = vec![
            scalars("pressure", &|i| if i < 9 { 0.1 + i as f32 } else { 0.0 }),
            scalars("odd", &|_| 0.5),
        ];
        assert_eq!(again(&mesh).attributes, mesh.attributes);
        assert!(encode(&mesh).len() - without < n / 20, "{} of {n}", encode(&mesh).len() - without);
    }

    #[test]
    fn damaged_bytes_are_refused() {
        let mesh = primitive::cuboid(Vec3::ONE, 0.1);
        let mesh = state(&mesh, mesh.positions.clone(), mesh.positions.clone());
        let bytes = encode(&mesh);
        for end in 0..bytes.len() {
            assert!(decode(&bytes[..end], &mut mesh.clone()).is_err(), "cut at {end}");
        }
        let mut lies = bytes.clone();
        lies[HASH..HASH + 4].copy_from_slice(&u32::MAX.to_le_bytes());
        assert!(decode(&lies, &mut mesh.clone()).is_err());
    }
}
