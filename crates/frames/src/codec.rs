//! A frame as bytes: quantised columns, byte planes, zstd, a checksum.
//!
//! ```text
//! 0   "BRFRAME1"            8 bytes
//! 8   number                u32   all numbers little-endian
//! 12  revision              u32
//! 16  time_s                f64
//! 24  fingerprint           16 bytes
//! 40  blocks                u32
//! 44  length of `measured`  u32
//! 48  block table           20 bytes a block: element u32, kind u32 (1 bodies,
//!                           2 particles, 3 bodies with scales), count u32,
//!                           offset u32, length u32
//! …   measured              JSON
//! …   blocks                bodies as a zstd frame, particles as [`crate::particles`] has them
//! end checksum              CRC-32 of all before it
//! ```

use crate::error::DecodeError;
use crate::quantise::{
    ANGULAR_VELOCITY_ERROR, POSITION_ERROR_M, VELOCITY_ERROR, pack_orientation, quantise, unpack_orientation,
    unzigzag, zigzag,
};
use crate::{Bodies, Frame, Measured, Parts, particles};
use glam::{Quat, Vec3};
use shot::{Id, fingerprint::Fingerprint};

const MAGIC: &[u8; 8] = b"BRFRAME1";
const HEADER: usize = 48;
const ENTRY: usize = 20;
const BODIES: u32 = 1;
const PARTICLES: u32 = 2;
const SCALED_BODIES: u32 = 3;
/// Most bodies in one block, bounded before anything is allocated.
const MAX_COUNT: usize = 1 << 24;

/// The first bytes of a frame file.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Header {
    /// Frame of the shot.
    pub number: u32,
    /// Revision of the shot it was computed from.
    pub revision: u32,
    /// Seconds since the first frame.
    pub time_s: f64,
    /// Fingerprint of the inputs.
    pub fingerprint: Fingerprint,
}

/// The frame as bytes.
pub fn encode(frame: &Frame) -> Vec<u8> {
    let measured = serde_json::to_vec(&frame.measured).expect("measures serialise");
    let mut out = Vec::with_capacity(1024);
    out.extend_from_slice(MAGIC);
    out.extend_from_slice(&frame.number.to_le_bytes());
    out.extend_from_slice(&frame.revision.to_le_bytes());
    out.extend_from_slice(&frame.time_s.to_le_bytes());
    out.extend_from_slice(&frame.fingerprint.0);
    let mut blocks: Vec<([u32; 3], Vec<u8>)> = Vec::new();
    for (id, bodies) in &frame.bodies {
        let kind = if bodies.scales.is_empty() { BODIES } else { SCALED_BODIES };
        blocks.push(([id.0, kind, bodies.len() as u32], encode_bodies(bodies)));
    }
    for (id, particles) in &frame.particles {
        blocks.push(([id.0, PARTICLES, particles.len() as u32], particles::encode(particles)));
    }
    out.extend_from_slice(&(blocks.len() as u32).to_le_bytes());
    out.extend_from_slice(&(measured.len() as u32).to_le_bytes());
    let mut offset = HEADER + ENTRY * blocks.len() + measured.len();
    for ([id, kind, count], block) in &blocks {
        for value in [*id, *kind, *count, offset as u32, block.len() as u32] {
            out.extend_from_slice(&value.to_le_bytes());
        }
        offset += block.len();
    }
    out.extend_from_slice(&measured);
    blocks.iter().for_each(|(_, block)| out.extend_from_slice(block));
    out.extend_from_slice(&crc32fast::hash(&out).to_le_bytes());
    out
}

/// Number, revision, time and fingerprint, from the first 48 bytes or more.
///
/// # Errors
/// [`DecodeError::NotAFrame`]. The checksum is not looked at.
pub fn read_header(bytes: &[u8]) -> Result<Header, DecodeError> {
    if bytes.len() < HEADER || &bytes[..8] != MAGIC {
        return Err(DecodeError::NotAFrame("it does not begin with BRFRAME1"));
    }
    Ok(Header {
        number: u32_at(bytes, 8),
        revision: u32_at(bytes, 12),
        time_s: f64::from_le_bytes(bytes[16..24].try_into().expect("8 bytes")),
        fingerprint: Fingerprint(bytes[24..40].try_into().expect("16 bytes")),
    })
}

/// Measurements of a frame, read without its blocks.
///
/// # Errors
/// [`DecodeError`] if the bytes are not what [`encode`] gave.
pub fn read_measured(bytes: &[u8]) -> Result<Measured, DecodeError> {
    let body = checked(bytes)?;
    let (blocks, length) = (u32_at(bytes, 40) as usize, u32_at(bytes, 44) as usize);
    measured(part(body, HEADER + ENTRY * blocks, length)?)
}

fn measured(bytes: &[u8]) -> Result<Measured, DecodeError> {
    serde_json::from_slice(bytes).map_err(|_| DecodeError::NotAFrame("its measures are not readable"))
}

/// Whether the bytes are a frame as it was written.
pub(crate) fn check(bytes: &[u8]) -> Result<(), DecodeError> {
    checked(bytes).map(|_| ())
}

/// Length of the head and the table of blocks, from the first 48 bytes.
pub(crate) fn table_end(bytes: &[u8]) -> Option<u64> {
    read_header(bytes).ok()?;
    Some(HEADER as u64 + ENTRY as u64 * u64::from(u32_at(bytes, 40)))
}

/// Length of the whole file, from all up to the end of the table of blocks.
pub(crate) fn file_length(bytes: &[u8]) -> Option<u64> {
    let table = table_end(bytes)?;
    let entries = bytes.get(HEADER..usize::try_from(table).ok()?)?.chunks_exact(ENTRY);
    let ends = entries.map(|entry| u64::from(u32_at(entry, 12)) + u64::from(u32_at(entry, 16)));
    Some(ends.fold(table + u64::from(u32_at(bytes, 44)), u64::max) + 4)
}

/// All but the checksum, if that is right.
fn checked(bytes: &[u8]) -> Result<&[u8], DecodeError> {
    read_header(bytes)?;
    let body = &bytes[..bytes.len() - 4];
    if crc32fast::hash(body) == u32_at(bytes, body.len()) { Ok(body) } else { Err(DecodeError::Damaged) }
}

fn part(body: &[u8], from: usize, len: usize) -> Result<&[u8], DecodeError> {
    from.checked_add(len)
        .and_then(|to| body.get(from..to))
        .ok_or(DecodeError::NotAFrame("a part lies outside the file"))
}

/// The frame from its bytes.
///
/// # Errors
/// [`DecodeError`] if the bytes are not what [`encode`] gave.
pub fn decode(bytes: &[u8]) -> Result<Frame, DecodeError> {
    let mut frame = Frame::default();
    decode_into(bytes, &mut frame)?;
    Ok(frame)
}

/// The frame from its bytes, in the memory of another: to read one after the
/// other takes half the time, which goes into pages of memory else.
///
/// # Errors
/// [`DecodeError`] as of [`decode`]; what is in the frame is then of no use.
pub fn decode_into(bytes: &[u8], frame: &mut Frame) -> Result<(), DecodeError> {
    decode_parts(bytes, Parts::All, frame)
}

/// Some parts of the frame from its bytes; the others are not unpacked.
///
/// # Errors
/// [`DecodeError`] as of [`decode_into`].
pub fn decode_parts(bytes: &[u8], parts: Parts, frame: &mut Frame) -> Result<(), DecodeError> {
    let header = read_header(bytes)?;
    let body = checked(bytes)?;
    let (blocks, measured_len) = (u32_at(bytes, 40) as usize, u32_at(bytes, 44) as usize);
    let table_end = HEADER + ENTRY * blocks;
    let mut particles = std::mem::take(&mut frame.particles);
    *frame = Frame {
        number: header.number,
        time_s: header.time_s,
        fingerprint: header.fingerprint,
        revision: header.revision,
        bodies: Default::default(),
        particles: Default::default(),
        measured: measured(part(body, table_end, measured_len)?)?,
    };
    for entry in part(body, HEADER, ENTRY * blocks)?.chunks_exact(ENTRY) {
        let value = |i: usize| u32_at(entry, 4 * i);
        let (id, kind, count) = (Id(value(0)), value(1), value(2) as usize);
        if count > MAX_COUNT {
            return Err(DecodeError::NotAFrame("it holds a block of too many"));
        }
        let block = part(body, value(3) as usize, value(4) as usize)?;
        if !parts.has(id) {
            continue;
        }
        match kind {
            BODIES | SCALED_BODIES => {
                frame.bodies.insert(id, decode_bodies(block, count, kind == SCALED_BODIES)?);
            }
            PARTICLES => {
                let mut room = particles.remove(&id).unwrap_or_default();
                particles::decode(block, count, &mut room)?;
                frame.particles.insert(id, room);
            }
            _ => return Err(DecodeError::NotAFrame("it holds a block of an unknown kind")),
        }
    }
    Ok(())
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().expect("4 bytes"))
}

/// Columns of a body: place 3 × 32 bits in 0.1 mm, turn 3 × 16 bits (smallest
/// three, the largest one's index in the top bits of the first), velocity
/// 3 × 24 bits in 2 mm/s, spin 3 × 24 bits in 0.01 rad/s.
const COLUMNS: [(usize, usize); 4] = [(3, 4), (3, 2), (3, 3), (3, 3)];
const BYTES_A_BODY: usize = 12 + 6 + 9 + 9;

fn encode_bodies(bodies: &Bodies) -> Vec<u8> {
    let n = bodies.len();
    // Byte planes: all lowest bytes of a column, then all next ones. Places
    // are written as zigzag differences from the copy before, since
    // neighbours in the grid tend to stay neighbours.
    let scaled = bodies.scales.len() == n && n > 0;
    let mut planes = vec![0u8; n * (BYTES_A_BODY + if scaled { 4 } else { 0 })];
    let mut base = 0;
    let mut put = |column: &mut dyn FnMut(usize) -> u32, width: usize| {
        for i in 0..n {
            let value = column(i);
            for byte in 0..width {
                planes[base + byte * n + i] = (value >> (8 * byte)) as u8;
            }
        }
        base += width * n;
    };
    for axis in 0..3 {
        let mut before = 0i32;
        put(
            &mut |i| {
                let value = quantise(bodies.positions[i][axis], 2.0 * POSITION_ERROR_M, 31);
                let difference = value.wrapping_sub(before);
                before = value;
                zigzag(difference)
            },
            COLUMNS[0].1,
        );
    }
    for part in 0..3 {
        put(&mut |i| u32::from(pack_orientation(bodies.orientations[i])[part]), COLUMNS[1].1);
    }
    for axis in 0..3 {
        put(&mut |i| zigzag(quantise(bodies.velocities[i][axis], 2.0 * VELOCITY_ERROR, 23)), COLUMNS[2].1);
    }
    for axis in 0..3 {
        put(
            &mut |i| zigzag(quantise(bodies.angular_velocities[i][axis], 2.0 * ANGULAR_VELOCITY_ERROR, 23)),
            COLUMNS[3].1,
        );
    }
    if scaled {
        put(&mut |i| bodies.scales[i].to_bits(), 4);
    }
    zstd::bulk::compress(&planes, 3).expect("compression into memory does not fail")
}

fn decode_bodies(block: &[u8], n: usize, scaled: bool) -> Result<Bodies, DecodeError> {
    let length = n * (BYTES_A_BODY + if scaled { 4 } else { 0 });
    let planes = zstd::bulk::decompress(block, length)
        .map_err(|_| DecodeError::NotAFrame("a block does not unpack"))?;
    if planes.len() != length {
        return Err(DecodeError::NotAFrame("a block is too short"));
    }
    let mut bodies = Bodies {
        positions: vec![Vec3::ZERO; n],
        orientations: vec![Quat::IDENTITY; n],
        velocities: vec![Vec3::ZERO; n],
        angular_velocities: vec![Vec3::ZERO; n],
        scales: vec![1.0; if scaled { n } else { 0 }],
    };
    let mut base = 0;
    let mut get = |width: usize, set: &mut dyn FnMut(usize, u32)| {
        for i in 0..n {
            let byte = |b: usize| u32::from(planes[base + b * n + i]) << (8 * b);
            set(i, (0..width).map(byte).sum());
        }
        base += width * n;
    };
    for axis in 0..3 {
        let mut before = 0i32;
        get(COLUMNS[0].1, &mut |i, value| {
            before = before.wrapping_add(unzigzag(value));
            bodies.positions[i][axis] = before as f32 * (2.0 * POSITION_ERROR_M);
        });
    }
    let mut packed = vec![[0u16; 3]; n];
    for part in 0..3 {
        get(COLUMNS[1].1, &mut |i, value| packed[i][part] = value as u16);
    }
    for axis in 0..3 {
        get(COLUMNS[2].1, &mut |i, value| {
            bodies.velocities[i][axis] = unzigzag(value) as f32 * (2.0 * VELOCITY_ERROR);
        });
    }
    for axis in 0..3 {
        get(COLUMNS[3].1, &mut |i, value| {
            bodies.angular_velocities[i][axis] = unzigzag(value) as f32 * (2.0 * ANGULAR_VELOCITY_ERROR)
        });
    }
    if scaled {
        get(4, &mut |i, value| bodies.scales[i] = f32::from_bits(value));
    }
    for (orientation, packed) in bodies.orientations.iter_mut().zip(packed) {
        *orientation = unpack_orientation(packed);
    }
    Ok(bodies)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantise::ORIENTATION_ERROR_RAD;
    use proptest::prelude::*;

    fn one(position: Vec3, orientation: Quat, velocity: Vec3, angular_velocity: Vec3) -> Frame {
        let mut frame = Frame::new(7, 0.25);
        let mut bodies = Bodies::default();
        bodies.push(position, orientation, velocity, angular_velocity);
        bodies.push(Vec3::ZERO, Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO);
        frame.bodies.insert(Id(3), bodies);
        frame
    }

    fn vector(range: f32) -> impl Strategy<Value = Vec3> {
        [-range..range, -range..range, -range..range].prop_map(Vec3::from)
    }

    proptest! {
        #[test]
        fn what_is_read_differs_by_no_more_than_the_stated_errors(
            position in vector(200.0), axis in vector(1.0), angle in -7f32..7.0, velocity in vector(50.0), angular_velocity in vector(100.0)
        ) {
            let orientation = Quat::from_axis_angle(axis.try_normalize().unwrap_or(Vec3::X), angle);
            let back = decode(&encode(&one(position, orientation, velocity, angular_velocity))).unwrap();
            let bodies = &back.bodies[&Id(3)];
            // f32 itself resolves 200 m to 1.5e-5 m.
            prop_assert!((bodies.positions[0] - position).abs().max_element() <= POSITION_ERROR_M + 2e-5);
            prop_assert!(2.0 * (bodies.orientations[0] * orientation.inverse()).xyz().length().asin() <= ORIENTATION_ERROR_RAD);
            prop_assert!((bodies.velocities[0] - velocity).abs().max_element() <= VELOCITY_ERROR * 1.01);
            prop_assert!((bodies.angular_velocities[0] - angular_velocity).abs().max_element() <= ANGULAR_VELOCITY_ERROR * 1.01);
        }

        #[test]
        fn a_changed_byte_is_noticed(at in 0usize..200, change in 1u8..) {
            let mut bytes = encode(&one(Vec3::ONE, Quat::IDENTITY, Vec3::X, Vec3::Y));
            let at = at % bytes.len();
            bytes[at] ^= change;
            prop_assert!(decode(&bytes).is_err());
        }

        #[test]
        fn a_shortened_file_is_noticed(keep in 0usize..400) {
            let bytes = encode(&one(Vec3::ONE, Quat::IDENTITY, Vec3::X, Vec3::Y));
            prop_assume!(keep < bytes.len());
            prop_assert!(decode(&bytes[..keep]).is_err());
        }
    }

    #[test]
    fn the_header_can_be_read_alone() {
        let frame = Frame { revision: 12, fingerprint: Fingerprint([9; 16]), ..Frame::new(38, 1.5) };
        let header = read_header(&encode(&frame)[..48]).unwrap();
        assert_eq!(
            header,
            Header { number: 38, revision: 12, time_s: 1.5, fingerprint: Fingerprint([9; 16]) }
        );
    }
}
