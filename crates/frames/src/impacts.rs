//! Impacts as bytes: 50 bytes each in byte planes, packed by zstd.
//!
//! An impact is u32 body, 2 × u16 span (fraction × 65,535), 2 × 3 × i32 centres
//! (0.1 mm), 2 × 3 × i16 velocities (10 mm/s), 3 × u16 orientation as of bodies.

use crate::Impact;
use crate::error::DecodeError;
use crate::quantise::{POSITION_ERROR_M, pack_orientation, quantise, unpack_orientation};
use glam::Vec3;

const BYTES: usize = 4 + 2 * 2 + 6 * 4 + 6 * 2 + 3 * 2;
/// Step of a velocity, m/s.
const VELOCITY_STEP: f32 = 0.01;
/// Step of a fraction of the time between two frames.
const FRACTION_STEP: f32 = 1.0 / 65_535.0;

pub(crate) fn encode(impacts: &[Impact]) -> Vec<u8> {
    let mut rows = Vec::with_capacity(impacts.len() * BYTES);
    for impact in impacts {
        rows.extend_from_slice(&impact.body.to_le_bytes());
        for part in impact.span {
            rows.extend_from_slice(&((part.clamp(0.0, 1.0) / FRACTION_STEP).round() as u16).to_le_bytes());
        }
        for value in impact.centres.iter().flat_map(|centre| centre.to_array()) {
            rows.extend_from_slice(&quantise(value, 2.0 * POSITION_ERROR_M, 31).to_le_bytes());
        }
        for value in impact.velocities.iter().flat_map(|velocity| velocity.to_array()) {
            rows.extend_from_slice(&(quantise(value, VELOCITY_STEP, 16) as i16).to_le_bytes());
        }
        for part in pack_orientation(impact.orientation) {
            rows.extend_from_slice(&part.to_le_bytes());
        }
    }
    let planes: Vec<u8> =
        (0..BYTES).flat_map(|byte| rows.iter().skip(byte).step_by(BYTES).copied()).collect();
    zstd::bulk::compress(&planes, 3).expect("compression into memory does not fail")
}

pub(crate) fn decode(block: &[u8], n: usize) -> Result<Vec<Impact>, DecodeError> {
    let planes = zstd::bulk::decompress(block, n * BYTES)
        .map_err(|_| DecodeError::NotAFrame("a block does not unpack"))?;
    if planes.len() != n * BYTES {
        return Err(DecodeError::NotAFrame("a block is too short"));
    }
    let impact = |i: usize| {
        let byte = |at: usize| planes[at * n + i];
        let short = |at: usize| u16::from_le_bytes([byte(at), byte(at + 1)]);
        let long = |at: usize| u32::from_le_bytes([0, 1, 2, 3].map(|k| byte(at + k)));
        let centre = |k: usize| {
            Vec3::from([0, 1, 2].map(|axis| long(8 + 12 * k + 4 * axis) as i32 as f32))
                * (2.0 * POSITION_ERROR_M)
        };
        let velocity = |k: usize| {
            Vec3::from([0, 1, 2].map(|axis| f32::from(short(32 + 6 * k + 2 * axis) as i16))) * VELOCITY_STEP
        };
        Impact {
            body: long(0),
            span: [4, 6].map(|at| f32::from(short(at)) * FRACTION_STEP),
            centres: [centre(0), centre(1)],
            velocities: [velocity(0), velocity(1)],
            orientation: unpack_orientation([short(44), short(46), short(48)]),
        }
    };
    Ok((0..n).map(impact).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantise::ORIENTATION_ERROR_RAD;
    use glam::Quat;
    use proptest::prelude::*;

    fn vector(most: f32) -> impl Strategy<Value = Vec3> {
        (-most..most, -most..most, -most..most).prop_map(|(x, y, z)| Vec3::new(x, y, z))
    }

    proptest! {
        #[test]
        fn what_is_read_back_differs_by_half_a_step(
            body in 0u32..50_000, start in 0f32..0.5, centres in [vector(190.0), vector(190.0)],
            velocities in [vector(300.0), vector(300.0)], axis in vector(3.0)
        ) {
            let impact = Impact {
                body, span: [start, start + 0.1], centres, velocities, orientation: Quat::from_scaled_axis(axis),
            };
            let back = decode(&encode(&[impact, impact]), 2).unwrap()[1];
            prop_assert_eq!(back.body, body);
            prop_assert!((back.span[0] - start).abs() < FRACTION_STEP);
            for k in 0..2 {
                prop_assert!((back.centres[k] - centres[k]).abs().max_element() <= POSITION_ERROR_M + 2e-5);
                prop_assert!((back.velocities[k] - velocities[k]).abs().max_element() <= 0.51 * VELOCITY_STEP);
            }
            let off = 2.0 * (back.orientation * impact.orientation.inverse()).xyz().length().asin();
            prop_assert!(off <= ORIENTATION_ERROR_RAD);
        }
    }
}
