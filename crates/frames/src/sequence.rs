//! Meshes that change with time as one file, of the extension `.brmeshes`:
//! what a sequence that was taken in is kept as. Nothing is rounded.
//!
//! ```text
//! "BRMESHES", f32 frames a second, u32 topologies, u32 samples
//! a topology: u32 length, so many bytes (see `crate::topologies`)
//! a sample:   f64 frame, u32 topology, u32 1 if it has velocities, u32 length, so many
//!             bytes: zstd of the positions, then the velocities, f32, all lowest
//!             bytes first, then all next ones
//! CRC-32 of all before it
//! ```

use crate::error::DecodeError;
use crate::table::u32_at;
use crate::topologies;
use geometry::{MeshSample, MeshSequence, Topology};
use glam::Vec3;
use std::sync::Arc;

const MAGIC: &[u8; 8] = b"BRMESHES";
/// Extension of the file.
pub const SEQUENCE_EXTENSION: &str = "brmeshes";
/// Most memory that the samples of a sequence take, bytes.
pub const MAX_SEQUENCE_BYTES: usize = 2 << 30;
/// Most samples of a sequence.
pub const MAX_SAMPLES: usize = 20_000;

const SHORT: DecodeError = DecodeError::NotAFrame("a mesh sequence is too short");

/// A sequence as a file.
pub fn encode_sequence(sequence: &MeshSequence) -> Vec<u8> {
    let mut shared: Vec<&Arc<Topology>> = Vec::new();
    let mut samples: Vec<(usize, &MeshSample)> = Vec::new();
    for sample in sequence.samples() {
        let known = shared.iter().position(|known| **known == sample.topology);
        let number = known.unwrap_or_else(|| {
            shared.push(&sample.topology);
            shared.len() - 1
        });
        samples.push((number, sample));
    }
    let mut out = MAGIC.to_vec();
    out.extend_from_slice(&sequence.rate().to_le_bytes());
    out.extend_from_slice(&(shared.len() as u32).to_le_bytes());
    out.extend_from_slice(&(samples.len() as u32).to_le_bytes());
    let put = |out: &mut Vec<u8>, bytes: &[u8]| {
        out.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
        out.extend_from_slice(bytes);
    };
    shared.iter().for_each(|topology| put(&mut out, &topologies::encode(topology)));
    for (topology, sample) in samples {
        out.extend_from_slice(&sample.frame.to_le_bytes());
        out.extend_from_slice(&(topology as u32).to_le_bytes());
        out.extend_from_slice(&u32::from(!sample.velocities.is_empty()).to_le_bytes());
        let values: Vec<f32> =
            sample.positions.iter().chain(&sample.velocities).flat_map(|v| v.to_array()).collect();
        let planes: Vec<u8> = (0..4).flat_map(|i| values.iter().map(move |v| v.to_le_bytes()[i])).collect();
        put(&mut out, &zstd::bulk::compress(&planes, 1).expect("compression into memory does not fail"));
    }
    out.extend_from_slice(&crc32fast::hash(&out).to_le_bytes());
    out
}

/// A sequence from its file.
///
/// # Errors
/// [`DecodeError`] if the bytes are not what [`encode_sequence`] gave, or would
/// take more than [`MAX_SEQUENCE_BYTES`].
pub fn decode_sequence(bytes: &[u8]) -> Result<MeshSequence, DecodeError> {
    let (body, sum) = bytes.split_last_chunk::<4>().ok_or(SHORT)?;
    if body.len() < 20 || &body[..8] != MAGIC {
        return Err(DecodeError::NotAFrame("a mesh sequence does not begin with BRMESHES"));
    }
    if crc32fast::hash(body) != u32::from_le_bytes(*sum) {
        return Err(DecodeError::Damaged);
    }
    let (rate, shared, samples) = (f32::from_bits(u32_at(body, 8)), u32_at(body, 12), u32_at(body, 16));
    if samples as usize > MAX_SAMPLES || shared > samples {
        return Err(DecodeError::NotAFrame("a mesh sequence has too many samples"));
    }
    let mut rest = &body[20..];
    fn take<'a>(rest: &mut &'a [u8], count: usize) -> Result<&'a [u8], DecodeError> {
        let (taken, after) = rest.split_at_checked(count).ok_or(SHORT)?;
        *rest = after;
        Ok(taken)
    }
    const TOO_LARGE: DecodeError = DecodeError::NotAFrame("a mesh sequence would take too much memory");
    let (mut known, mut list, mut memory) = (Vec::new(), Vec::new(), 0);
    for _ in 0..shared {
        let length = u32_at(take(&mut rest, 4)?, 0) as usize;
        let topology = topologies::decode(take(&mut rest, length)?)?;
        memory += 16 * topology.vertices() + 12 * topology.triangles().len();
        if memory > MAX_SEQUENCE_BYTES {
            return Err(TOO_LARGE);
        }
        known.push(Arc::new(topology));
    }
    for _ in 0..samples {
        let head = take(&mut rest, 20)?;
        let frame = f64::from_le_bytes(*head.first_chunk().expect("20 bytes"));
        let topology = known.get(u32_at(head, 8) as usize).ok_or(SHORT)?.clone();
        let n = topology.vertices();
        let values = 3 * n * (1 + (u32_at(head, 12) & 1) as usize);
        memory += 4 * values;
        if memory > MAX_SEQUENCE_BYTES {
            return Err(TOO_LARGE);
        }
        let packed = take(&mut rest, u32_at(head, 16) as usize)?;
        let planes = zstd::bulk::decompress(packed, 4 * values).map_err(|_| SHORT)?;
        if planes.len() != 4 * values {
            return Err(SHORT);
        }
        let value = |i: usize| f32::from_le_bytes([0, 1, 2, 3].map(|plane| planes[plane * values + i]));
        let mut all = (0..values / 3).map(|i| Vec3::new(value(3 * i), value(3 * i + 1), value(3 * i + 2)));
        let positions: Vec<Vec3> = all.by_ref().take(n).collect();
        list.push(MeshSample { frame, topology, positions, velocities: all.collect() });
    }
    MeshSequence::new(list, rate).ok_or(DecodeError::NotAFrame("the samples of a mesh sequence do not rise"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use geometry::primitive;

    fn sequence() -> MeshSequence {
        let sample = |frame: f64, around: usize| {
            let mesh = primitive::torus(1.0, 0.3, around);
            let topology = Arc::new(Topology::of(&mesh));
            let velocities =
                if around == 16 { vec![Vec3::X * frame as f32; mesh.positions.len()] } else { Vec::new() };
            MeshSample { frame, topology, positions: mesh.positions, velocities }
        };
        MeshSequence::new(vec![sample(0.0, 16), sample(1.5, 16), sample(2.0, 12)], 25.0).unwrap()
    }

    #[test]
    fn a_sequence_comes_back_bit_by_bit() {
        let sequence = sequence();
        let back = decode_sequence(&encode_sequence(&sequence)).unwrap();
        assert_eq!(back.rate(), 25.0);
        for (a, b) in back.samples().iter().zip(sequence.samples()) {
            assert_eq!((a.frame, &a.topology, &a.positions), (b.frame, &b.topology, &b.positions));
            assert_eq!(a.velocities, b.velocities);
        }
        assert!(Arc::ptr_eq(&back.samples()[0].topology, &back.samples()[1].topology));
    }

    #[test]
    fn cut_or_altered_files_are_refused() {
        let bytes = encode_sequence(&sequence());
        for end in (0..bytes.len()).step_by(7) {
            assert!(decode_sequence(&bytes[..end]).is_err());
        }
        // Counts that lie, with a checksum that is right.
        for at in [12, 16] {
            let mut lies = bytes[..bytes.len() - 4].to_vec();
            lies[at..at + 4].copy_from_slice(&u32::MAX.to_le_bytes());
            lies.extend(crc32fast::hash(&lies).to_le_bytes());
            assert!(decode_sequence(&lies).is_err());
        }
    }
}
