//! Bodies as bytes: quantised columns in byte planes, packed by zstd.

use crate::Bodies;
use crate::error::DecodeError;
use crate::quantise::{
    ANGULAR_VELOCITY_ERROR, POSITION_ERROR_M, VELOCITY_ERROR, pack_orientation, quantise, unpack_orientation,
    unzigzag, zigzag,
};
use glam::{Quat, Vec3};

/// Columns of a body: place 3 × 32 bits in 0.1 mm, turn 3 × 16 bits (smallest
/// three, the largest one's index in the top bits of the first), velocity
/// 3 × 24 bits in 2 mm/s, spin 3 × 24 bits in 0.01 rad/s.
const COLUMNS: [(usize, usize); 4] = [(3, 4), (3, 2), (3, 3), (3, 3)];
const BYTES_A_BODY: usize = 12 + 6 + 9 + 9;

pub(crate) fn encode(bodies: &Bodies) -> Vec<u8> {
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

pub(crate) fn decode(block: &[u8], n: usize, scaled: bool) -> Result<Bodies, DecodeError> {
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
        impacts: Vec::new(),
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
