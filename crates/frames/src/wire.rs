//! A frame as the Stage takes it: nothing to unpack, 20 bytes a body.

use crate::Frame;

/// The frame as one message, all numbers little-endian:
///
/// ```text
/// u32 number, u32 elements
/// an element: u32 id, u32 count
/// an element: count × 3 f32 places (m), then count × 4 i16 turns (x, y, z, w × 32767)
/// ```
pub fn wire(frame: &Frame) -> Vec<u8> {
    let bodies: usize = frame.bodies.values().map(crate::Bodies::len).sum();
    let mut out = Vec::with_capacity(8 + 8 * frame.bodies.len() + 20 * bodies);
    out.extend_from_slice(&frame.number.to_le_bytes());
    out.extend_from_slice(&(frame.bodies.len() as u32).to_le_bytes());
    for (id, bodies) in &frame.bodies {
        out.extend_from_slice(&id.0.to_le_bytes());
        out.extend_from_slice(&(bodies.len() as u32).to_le_bytes());
    }
    for bodies in frame.bodies.values() {
        for value in bodies.places.iter().flat_map(|place| place.to_array()) {
            out.extend_from_slice(&value.to_le_bytes());
        }
        for value in bodies.turns.iter().flat_map(|turn| turn.to_array()) {
            out.extend_from_slice(&((value * 32767.0).round() as i16).to_le_bytes());
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Bodies;
    use glam::{Quat, Vec3};

    #[test]
    fn two_thousand_bodies_fit_64_kib() {
        let mut bodies = Bodies::default();
        (0..2000).for_each(|i| bodies.push(Vec3::splat(i as f32), Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO));
        let mut frame = Frame::new(1, 0.0);
        frame.bodies.insert(shot::Id(1), bodies);
        assert!(wire(&frame).len() <= 64 * 1024);
    }
}
